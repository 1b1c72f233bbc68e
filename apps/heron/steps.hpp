#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/calibrate/lens.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/geometry/rigid_fit.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/report/report.hpp"

namespace heron::tool {

/// Steps that several commands share.

struct BoardSummary {
  bool marked = false;
};

/// The board in one picture; nothing, with the reason on standard error, when it is not seen. `width` and
/// `height` are those of the pictures before it, 0 when it is the first; another size is an error.
std::optional<BoardView> view_of(const std::string& path, const BoardShape& shape, int& width, int& height,
                                 BoardSummary* seen, const BoardSearch& search = {});

/// Finds the board in each picture and fits one plane mapping to all; nothing, with the reason on standard
/// error, when a board is not seen.
std::optional<MappingRecord> mapping_from_pictures(const std::vector<std::string>& pictures,
                                                   const BoardShape& shape, BoardSummary& seen);

/// robot_from_board from a CSV of touched points.
RigidFit frame_from_touched(const std::string& path);

/// A table of what was found and missed, for people. `title` names the picture.
/// What a target looks at in a picture file: grey levels, or the relief of a height map in the target's step.
/// Throws when a target of one is given a picture of the other.
Image<uint8_t> seen_by(const PatternTarget& target, const std::string& path);

void print_report(const Report& report);

}  // namespace heron::tool
