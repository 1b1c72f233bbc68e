#pragma once
#include <cstdint>
#include <map>
#include <string>

#include "heron/image/picture.hpp"

namespace heron {

/// Raw pictures of results, each under its number: 000017.png, a height map 000017.tif. The newest of them
/// stay, and in `first` beside them the first of each kind of failure, with their kinds in `kinds.csv`.
class PictureFolder {
 public:
  /// Makes the folder. Of each kind `keep_first` pictures stay for good. Throws Error{not_writable}, and
  /// Error{bad_file} when `kinds.csv` of an earlier run is broken.
  PictureFolder(std::string folder, int keep, int keep_first = 0);
  /// Returns why the picture was not stored, and nothing when it was. A disk that is nearly
  /// full is kept for results: no picture is stored until there is space again. `kind`: of failure;
  /// empty for what is none. A folder takes 200 kinds, so that no cell fills its disk with firsts.
  std::string keep(uint64_t number, const Picture& picture, std::string kind = {});
  /// Where the picture of a result is; empty when it is not there.
  static std::string find(const std::string& folder, uint64_t number);

 private:
  bool is_among_first(const std::string& kind) const;
  void read_kinds();

  std::string folder_;
  uint64_t keep_;
  int keep_first_;
  std::map<std::string, int> kept_;  ///< how many firsts of each kind there are
  std::string kinds_;                ///< what `kinds.csv` holds
};

}  // namespace heron
