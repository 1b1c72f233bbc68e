#pragma once
#include <chrono>
#include <optional>
#include <string>
#include <vector>

#include "heron/calibrate/lens.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/geometry/rigid_fit.hpp"
#include "heron/locate/target.hpp"
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

/// Points of a CSV that the robot touched: in the board's frame, and in the robot's.
std::pair<std::vector<Point2>, std::vector<Point2>> touched_points(const std::string& path);

/// The pictures, with those of each folder in its place.
std::vector<std::string> with_folders(const std::vector<std::string>& given);

/// Throws Error{invalid_argument} when the picture has another size than those that the mapping was made
/// with.
void require_size_of(const MappingRecord& mapping, const PreparedPicture& prepared, const std::string& path);

double milliseconds_since(std::chrono::steady_clock::time_point begun);

/// Figures in a line: "area 4021  deviation 0.31   quality:  rim 98".
std::string figure_words(const std::vector<Measurement>& measurements);

/// A picture file prepared for what a target looks at; docs of `prepare`.
PreparedPicture prepared_from_file(const Target& target, const std::string& path);

/// The picture itself with what a report says about it, in color where the target looks at color; for the
/// width at which it is looked at.
Image<Rgb> draw_over(const PreparedPicture& prepared, const Report& report,
                     const Box* search_region = nullptr, int shown_width = 1600);

/// A table of what was found and missed, for people.
void print_report(const Report& report);

}  // namespace heron::tool
