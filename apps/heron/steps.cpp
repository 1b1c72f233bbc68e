#include "steps.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "heron/base/error.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

std::string limit_words(const LimitMissed& limit) {
  if (limit.name == "region") return "needs " + limit.needed;
  return fmt::format("{} is {:.4g}, needed {}", limit.name, limit.value, limit.needed);
}

}  // namespace

std::optional<MappingRecord> mapping_from_pictures(const std::vector<std::string>& pictures,
                                                   const BoardShape& shape, BoardSummary& seen) {
  shape.require_valid();
  MappingRecord record;
  record.board = shape;
  record.date = now_text();
  std::vector<BoardPoint> points;
  double radius = 0;
  for (const std::string& path : pictures) {
    const Image<uint8_t> picture = grey_levels(load_picture(path));
    if (record.width != 0 && (picture.width() != record.width || picture.height() != record.height))
      fail_argument(
          fmt::format("calibrate: {} has {} x {} pixels, the pictures before it {} x {}; one mapping serves "
                      "one picture size",
                      path, picture.width(), picture.height(), record.width, record.height));
    record.width = picture.width(), record.height = picture.height();
    const BoardSeen board = find_board(picture, shape);
    if (!board.found) {
      fmt::print(stderr, "heron: calibrate: {}: {}\n", path, board.reason);
      return std::nullopt;
    }
    points.insert(points.end(), board.points.begin(), board.points.end());
    radius += board.dot_radius_px / static_cast<double>(pictures.size());
    seen.marked = board.marked;
    record.pictures.push_back(std::filesystem::path(path).filename().string());
  }
  record.calibration = calibrate_plane(points, shape, radius, record.width, record.height);
  if (pictures.size() > 1 && record.calibration.rms_px > 1)
    fail_argument(
        fmt::format("calibrate: the board's points lie {:.1f} px apart from picture to picture; a plane "
                    "mapping needs it lying still in all of them",
                    record.calibration.rms_px));
  return record;
}

RigidFit frame_from_touched(const std::string& path) {
  std::vector<Point2> board, robot;
  for (const auto& row : load_csv(path, 4))
    board.push_back({row[0], row[1]}), robot.push_back({row[2], row[3]});
  return fit_rigid(board, robot);
}

void print_report(const Report& report) {
  fmt::print("{}: {} found in {:.1f} ms\n", report.picture, report.parts.size(), report.elapsed_ms);
  const bool world = !report.parts.empty() && report.parts[0].world,
             robot = !report.parts.empty() && report.parts[0].robot;
  if (!report.parts.empty()) {
    fmt::print("  {:>2}  {:<12} {:>9} {:>9} {:>9} {:>7} {:>6}", "#", "target", "x px", "y px", "angle",
               "scale", "score");
    if (world && !robot) fmt::print("   {:>9} {:>9} {:>9}", "world X", "Y mm", "angle");
    if (robot) fmt::print("   {:>9} {:>9} {:>9}", "robot X", "Y mm", "angle");
    fmt::print("\n");
  }
  int number = 0;
  for (const ReportedPart& p : report.parts) {
    const Sighting& s = p.sighting;
    fmt::print("  {:>2}  {:<12} {:>9.3f} {:>9.3f} {:>9.3f} {:>7.4f} {:>6.1f}", ++number, s.target, s.x, s.y,
               s.angle.degrees(), s.scale, s.score);
    if (const auto& place = robot ? p.robot : p.world; place)
      fmt::print("   {:>9.3f} {:>9.3f} {:>9.3f}", place->x_mm, place->y_mm, place->angle.degrees());
    for (const std::string& end : s.range_end) fmt::print("  at the end of the {} range", end);
    fmt::print("\n");
  }
  if (report.parts.empty() && report.misses.empty())
    fmt::print("  nothing in it resembles the target, not even beyond the limits\n");
  for (const Miss& m : report.misses) {
    fmt::print("  miss at ({:.0f}, {:.0f}), angle {:.1f}, scale {:.2f}, score {:.1f}:", m.x, m.y,
               m.angle.degrees(), m.scale, m.score);
    for (size_t i = 0; i < m.limits.size(); ++i) fmt::print("{} {}", i ? "," : "", limit_words(m.limits[i]));
    fmt::print("\n");
  }
}

}  // namespace heron::tool
