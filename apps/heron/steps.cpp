#include "steps.hpp"

#include "gauge_table.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/locate/names.hpp"
#include "log.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

std::string words_of(const MissReason& limit) {
  if (limit.name == limit::region) return "needs " + limit.needed;
  if (limit.name == limit::change)
    return fmt::format("it {} by {:.3g}, needed {}", limit.value > 0 ? "rises" : "falls",
                       std::abs(limit.value), limit.needed);
  if (limit.name == limit::shape)
    return fmt::format("another shape, of {:.0f} % of the taught area", limit.value);
  if (limit.name == limit::mirrored) return "it is mirrored, needed " + limit.needed;
  if (limit.name == limit::inversion)
    return fmt::format("{}, needed {}", limit.value < 0 ? "inverted" : "as taught", limit.needed);
  const std::string sure = limit.sigma > 0 ? fmt::format(" \u00b1 {:.1g}", limit.sigma) : "";
  return fmt::format("{} is {:.4g}{}, needed {}", limit.name, limit.value, sure, limit.needed);
}

}  // namespace

double milliseconds_since(std::chrono::steady_clock::time_point begun) {
  return std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - begun).count();
}

std::string figure_words(const std::vector<Measurement>& measurements) {
  std::string words, group;
  for (const Measurement& f : measurements) {
    const size_t dot = f.name.find('.');
    const std::string of = dot == std::string::npos ? "" : f.name.substr(0, dot);
    if (!words.empty()) words += of == group ? "  " : "   ";
    if (of != group && !of.empty()) words += of + ":  ";
    group = of;
    words += fmt::format("{} {:.5g}", dot == std::string::npos ? f.name : f.name.substr(dot + 1), f.value);
  }
  return words;
}

std::optional<BoardView> view_of(const std::string& path, const BoardShape& shape, int& width, int& height,
                                 BoardSummary* seen, const BoardSearch& search) {
  const Image<uint8_t> picture = grey_levels(load_picture(path));
  if (width != 0 && (picture.width() != width || picture.height() != height))
    fail_argument(
        fmt::format("calibrate: {} has {} x {} pixels, {} x {} are needed as in the pictures before it; one "
                    "mapping serves one picture size",
                    path, picture.width(), picture.height(), width, height));
  width = picture.width(), height = picture.height();
  BoardSeen board = find_board(picture, shape, search);
  if (!board.found) {
    log_error("calibrate: {}: {}", path, board.reason);
    return std::nullopt;
  }
  log_detail("calibrate: {}: {} points of the board found", path, board.points.size());
  if (seen) seen->marked = board.marked;
  return BoardView{std::filesystem::path(path).filename().string(), std::move(board.points),
                   board.dot_radius_px, board.whole || board.marked};
}

std::optional<MappingRecord> mapping_from_pictures(const std::vector<std::string>& pictures,
                                                   const BoardShape& shape, BoardSummary& seen) {
  shape.require_valid();
  int width = 0, height = 0;
  std::vector<BoardPoint> points;
  std::vector<std::string> names;
  double radius = 0;
  for (const std::string& path : pictures) {
    const auto view = view_of(path, shape, width, height, &seen);
    if (!view) return std::nullopt;
    points.insert(points.end(), view->points.begin(), view->points.end());
    radius += view->dot_radius_px / static_cast<double>(pictures.size());
    names.push_back(view->name);
  }
  MappingRecord record = record_of(calibrate_plane(points, shape, radius, width, height));
  record.board = shape, record.width = width, record.height = height, record.pictures = names,
  record.date = now_text();
  if (pictures.size() > 1 && record.rms_px > 1)
    fail_argument(
        fmt::format("calibrate: the board's points lie {:.1f} px apart from picture to picture; a plane "
                    "mapping needs it lying still in all of them",
                    record.rms_px));
  return record;
}

std::pair<std::vector<Point2>, std::vector<Point2>> touched_points(const std::string& path) {
  std::pair<std::vector<Point2>, std::vector<Point2>> pairs;
  for (const auto& row : load_csv(path, {"board_x", "board_y", "robot_x", "robot_y"}))
    pairs.first.push_back({row[0], row[1]}), pairs.second.push_back({row[2], row[3]});
  return pairs;
}

std::vector<std::string> with_folders(const std::vector<std::string>& given) {
  std::vector<std::string> pictures;
  for (const std::string& path : given) {
    if (!std::filesystem::is_directory(path)) {
      pictures.push_back(path);
      continue;
    }
    const Recording folder = load_recording(path);
    for (size_t i = 0; i < folder.size(); ++i) pictures.push_back(folder.path(i));
  }
  return pictures;
}

void require_size_of(const MappingRecord& mapping, const PreparedPicture& prepared, const std::string& path) {
  if (mapping.width != prepared.width() || mapping.height != prepared.height())
    fail_argument(fmt::format("{}: {} x {} pixels, the mapping was made with {} x {}", path, prepared.width(),
                              prepared.height(), mapping.width, mapping.height));
}

PreparedPicture prepared_from_file(const Target& target, const std::string& path) {
  Picture picture = load_picture(path);
  picture.name = path;
  return prepare(picture, target);
}

Image<Rgb> draw_over(const PreparedPicture& prepared, const Report& report, const Box* search_region,
                     int shown_width) {
  if (!prepared.color().empty()) return draw_report(prepared.color(), report, search_region, shown_width);
  return draw_report(prepared.level(0), report, search_region, shown_width);
}

void print_report(const Report& report) {
  fmt::print("{}: {} found in {:.1f} ms{}{}{}\n", report.picture, report.parts.size(), report.elapsed_ms,
             report.setup ? fmt::format(", set-up {} ({})", report.setup->number, report.setup->name) : "",
             report.marks ? fmt::format(", marks moved by {:.3f} mm and {:.3f} degrees",
                                        report.marks->distance_mm(), report.marks->turn.degrees())
                          : "",
             report.unusable.empty() ? "" : "; " + report.unusable);
  const bool world = !report.parts.empty() && report.parts[0].world,
             robot = !report.parts.empty() && report.parts[0].robot;
  if (!report.parts.empty()) {
    fmt::print("  {:>2}  {:<12} {:>9} {:>9} {:>9} {:>7} {:>6}", "#", "target", "x px", "y px", "angle deg",
               "scale", "score");
    if (world && !robot) fmt::print("   {:>9} {:>9} {:>9}", "world X", "Y mm", "angle deg");
    if (robot) fmt::print("   {:>9} {:>9} {:>9}", "robot X", "Y mm", "angle deg");
    fmt::print("\n");
  }
  int number = 0;
  for (const ReportedPart& p : report.parts) {
    const Detection& s = p.detection;
    const auto angle = [&](const auto& a, bool known) {
      return known ? fmt::format("{:.3f}", a.degrees()) : std::string("-");
    };
    fmt::print("  {:>2}  {:<12} {:>9.3f} {:>9.3f} {:>9} {:>7.4f} {:>6.1f}", ++number, s.target, s.x, s.y,
               angle(s.angle, s.has_angle), s.scale, s.score);
    const auto print_place = [&](const auto& place) {
      if (place)
        fmt::print("   {:>9.3f} {:>9.3f} {:>9}", place->x_mm, place->y_mm,
                   angle(place->angle, s.has_angle || (robot && p.grasp)));
    };
    if (robot)
      print_place(p.robot);
    else
      print_place(p.world);
    if (robot && p.grasp && p.withheld.empty()) fmt::print("  grasp {}", p.grasp->number);
    if (p.place)
      fmt::print("  put at {:.3f} {:.3f} {:.3f}", p.place->x_mm, p.place->y_mm, p.place->angle.degrees());
    if (s.inverted) fmt::print("  inverted");
    for (const std::string& end : s.range_end) fmt::print("  near the end of the {} range", end);
    if (!p.withheld.empty()) fmt::print("  not sent: {}", p.withheld);
    fmt::print("\n");
    if (s.ambiguous)
      fmt::print(
          "      ambiguous: ({:.2f}, {:.2f}), angle {:.2f} explains the picture as well, with score {:.1f}\n",
          s.ambiguous->x, s.ambiguous->y, s.ambiguous->angle.degrees(), s.ambiguous->score);
    if (!s.measurements.empty()) fmt::print("      {}\n", figure_words(s.measurements));
    if (p.distance)
      fmt::print(
          "      distance {:.2f} \u00b1 {:.2f} mm along the ray, {:.2f} mm along the axis; bearing {:.3f}, "
          "elevation {:.3f} degrees\n",
          p.distance->along_ray_mm, p.distance->sigma_ray_mm, p.distance->along_axis_mm,
          p.distance->bearing.degrees(), p.distance->elevation.degrees());
    for (size_t i = 0; i < s.lengths.size(); ++i) {
      const MeasuredLength& span = s.lengths[i];
      fmt::print("{}{} {:.2f} px{}", i == 0 ? "      lengths: " : ", ", span.name,
                 distance(span.from, span.to),
                 i < p.lengths_mm.size() ? fmt::format(" = {:.3f} mm", p.lengths_mm[i]) : "");
    }
    if (!s.lengths.empty()) fmt::print("\n");
    for (size_t i = 0; i < s.points.size(); ++i) {
      const NamedPoint& point = s.points[i];
      fmt::print("{}{} ({:.2f}, {:.2f})", i == 0 ? "      points: " : ", ", point.name, point.at.x,
                 point.at.y);
      if (i < p.points_mm.size()) fmt::print(" = ({:.3f}, {:.3f}) mm", p.points_mm[i].x, p.points_mm[i].y);
    }
    if (!s.points.empty()) fmt::print("\n");
    for (const Defect& f : s.defects)
      fmt::print("      {} {:.0f} px\u00b2 at ({:.0f}, {:.0f}), {}{:.1f} px deep\n", f.what, f.area, f.x, f.y,
                 f.length > 0 ? fmt::format("{:.1f} px long, ", f.length) : "", f.depth);
  }
  if (!report.complete) fmt::print("  stopped when the time was over; there may be more\n");
  if (report.parts.empty() && report.misses.empty() && report.complete)
    fmt::print("  nothing in it resembles the target, not even beyond the limits\n");
  for (const Miss& m : report.misses) {
    fmt::print("  miss at ({:.0f}, {:.0f}){}, scale {:.2f}, score {:.1f}:", m.x, m.y,
               m.has_angle ? fmt::format(", angle {:.1f}", m.angle.degrees()) : "", m.scale, m.score);
    for (size_t i = 0; i < m.reasons.size(); ++i) fmt::print("{} {}", i ? "," : "", words_of(m.reasons[i]));
    fmt::print("\n");
  }
  if (report.verdict) print_readings(report);
}

}  // namespace heron::tool
