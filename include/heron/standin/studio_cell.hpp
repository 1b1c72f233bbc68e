#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "heron/image/region.hpp"

namespace heron {

/// Pictures for one of the simpler ways to find.
struct StudioSet {
  std::string folder;  ///< with teach.png, known.csv and the recording `pictures`; blank has empty.png too
  std::string kind;    ///< of the target that it is for
  Box teach_region;    ///< in teach.png
};

/// Writes into `folder`: glaze/ (color pictures of tiles, those of teal glaze are meant), blank/ (leaf
/// blanks, with a picture of the empty tray) and bore/ (a kiln door's frame with its peg bore). Pictures are
/// as hard as `hard` says; everything follows from the seed. Throws Error{not_writable}.
std::vector<StudioSet> write_studio(const std::string& folder, uint64_t seed, int pictures, bool hard);

}  // namespace heron
