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
  std::string region;  ///< of the part in teach.png, as `heron teach --region` takes it
  std::string options = {};  ///< further ones of that call
  bool moves = false;        ///< a recording with times, to be watched
};

/// How fast the belt carries tiles past, millimetres a second.
inline constexpr Point2 belt_mm_s{36, -9};

/// Writes into `folder`: glaze/ (color pictures of tiles, those of teal glaze are meant), blank/ (leaf
/// blanks, with a picture of the empty tray), bore/ (a kiln door's frame with its peg bore), panel/ (a floor
/// panel with its border), plate/ (a gauge plate with its edges), floor/ (a floor with its stripe) and belt/
/// (tiles that a belt carries past, with the time of each picture). Pictures are as hard as `hard` says;
/// everything follows from the seed. Throws Error{not_writable}.
std::vector<StudioSet> write_studio(const std::string& folder, uint64_t seed, int pictures, bool hard);

}  // namespace heron
