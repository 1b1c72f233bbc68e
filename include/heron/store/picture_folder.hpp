#pragma once
#include <cstdint>
#include <string>

#include "heron/image/picture.hpp"

namespace heron {

/// Raw pictures of results, each under its number: 000017.png, a height map 000017.tif. The newest of them
/// stay.
class PictureFolder {
 public:
  /// Makes the folder. Throws Error{not_writable}.
  PictureFolder(std::string folder, int keep);
  /// Returns why the picture was not stored, and nothing when it was. A disk that is nearly
  /// full is kept for results: no picture is stored until there is space again.
  std::string keep(uint64_t number, const Picture& picture);
  /// Where the picture of a result is; empty when it is not there.
  static std::string find(const std::string& folder, uint64_t number);

 private:
  std::string folder_;
  uint64_t keep_;
};

}  // namespace heron
