#include <fmt/format.h>

#include <algorithm>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "calibrate.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/lens.hpp"
#include "heron/files/picture_file.hpp"
#include "log.hpp"
#include "options.hpp"
#include "progress.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

Json radial_of(const Lens& l) { return {l.k1, l.k2, l.k3}; }
Json tangential_of(const Lens& l) { return {l.p1, l.p2}; }

Lens sigma_of(const CameraMapping& m) {
  return lens_of(m.covariance().diagonal().head<9>().cwiseMax(0).cwiseSqrt());
}

Json json_of(const MappingRecord& r, const Json& kind_of_its_own) {
  const Point2 centre{0.5 * (r.width - 1), 0.5 * (r.height - 1)};
  const WorldPose middle = r.mapping.world_pose(centre, {});
  Json j{{"kind", r.made_from == "board" ? "plane" : r.made_from}, {"points", r.points.size()}};
  j.update(kind_of_its_own);
  j.update({{"rms_px", r.rms_px},
            {"sigma_px", r.sigma_px},
            {"largest_mm", r.largest_mm},
            {"mm_per_pixel", r.mapping.mm_per_pixel(centre)},
            {"sigma_mm", {{"x", *middle.sigma.x}, {"y", *middle.sigma.y}}}});
  return j;
}

void print_plane(const MappingRecord& r, const BoardSummary& seen, bool json) {
  const Point2 centre{0.5 * (r.width - 1), 0.5 * (r.height - 1)};
  const WorldPose middle = r.mapping.world_pose(centre, {});
  if (json) {
    Json own{{"marked", seen.marked}};
    if (const PlaneMapping* plane = r.mapping.plane()) {
      Json matrix = Json::array();
      for (int i = 0; i < 3; ++i)
        matrix.push_back({plane->matrix()(i, 0), plane->matrix()(i, 1), plane->matrix()(i, 2)});
      own["distortion_px"] = r.distortion_px;
      own["pixel_from_world"] = matrix;
    }
    fmt::print("{}\n", json_of(r, own).dump());
    return;
  }
  fmt::print("points      {} of {}{}\n", r.points.size(),
             r.pictures.size() * static_cast<size_t>(r.board->columns * r.board->rows),
             seen.marked ? ", origin from the board's mark"
                         : ", no mark: origin is the corner nearest the bottom left");
  fmt::print("residual    rms {:.4f} px, largest {:.4f} mm\n", r.rms_px, r.largest_mm);
  fmt::print("scale       {:.5f} mm per pixel at the centre\n", r.mapping.mm_per_pixel(centre));
  fmt::print("sigma       x {:.4f} mm, y {:.4f} mm at the centre\n", *middle.sigma.x, *middle.sigma.y);
  if (r.distortion_px > 0.2)
    fmt::print(
        "note        residuals grow towards the corners by {:.2f} px: the lens bends straight lines, and a "
        "plane mapping cannot hold that; --lens calibrates it, "
        "--lens-from then uses it\n",
        r.distortion_px);
}

BoardShape shape_of(const CalibrateOptions& o) {
  if (o.board.empty()) fail_argument("calibrate: --board dots|checker says which board the pictures show");
  BoardShape shape = o.shape;
  shape.kind = parse_board_kind(o.board);
  shape.require_valid();
  return shape;
}

std::string base_name(const std::string& path) { return std::filesystem::path(path).filename().string(); }

/// Whether the points scatter by no more than what was allowed; else that is reported, with the worst of
/// them.
bool fits_well(const MappingRecord& r, const CalibrateOptions& o) {
  if (r.rms_px <= o.tolerance_px || r.points.empty()) return true;
  const MappedPoint& worst = *std::max_element(
      r.points.begin(), r.points.end(),
      [](const MappedPoint& a, const MappedPoint& b) { return norm(a.residual_px) < norm(b.residual_px); });
  log_error(
      "calibrate: the board's points do not fit to {:g} px (--tolerance-px): rms {:.2f} px; the point "
      "at ({:g}, {:g}) mm lies {:.2f} px off. Nothing was written. Is the board flat, and are --columns, "
      "--rows and the lens right (--lens calibrates it)?",
      o.tolerance_px, r.rms_px, worst.world_mm.x, worst.world_mm.y, norm(worst.residual_px));
  return false;
}

/// A single picture's plane through a lens that is known.
int calibrate_with_lens(const CalibrateOptions& o) {
  if (o.pictures.size() != 1)
    fail_argument(fmt::format(
        "calibrate: --lens-from needs one picture, of the board lying on the work plane; {} were given",
        o.pictures.size()));
  const MappingRecord lens = load_mapping(o.lens_from);
  if (!lens.mapping.camera())
    fail_argument(o.lens_from + ": is a mapping of a plane alone and holds no lens; make one with --lens");
  const BoardShape shape = shape_of(o);
  BoardSummary seen;
  int width = lens.width, height = lens.height;
  const auto view = view_of(o.pictures[0], shape, width, height, &seen);
  if (!view) return 1;
  const PoseCalibration c = calibrate_pose(*view, shape, *lens.mapping.camera());
  MappingRecord r;
  r.mapping = c.mapping;
  r.made_from = "pose";
  r.rms_px = c.rms_px, r.sigma_px = c.sigma_px, r.largest_mm = c.largest_mm, r.points = c.points;
  r.board = shape, r.width = lens.width, r.height = lens.height, r.pictures = {base_name(o.pictures[0])},
  r.date = now_text();
  if (!fits_well(r, o)) return 1;
  save_with_care(o.output, r, o.replace);
  print_plane(r, seen, o.json);
  if (!o.json && c.sigma_px > 3 * lens.sigma_px + 0.02)
    fmt::print(
        "note        the residual is {:.1f} times that of the lens' own calibration: was the focus or the "
        "zoom changed since, or is the board bent?\n",
        c.sigma_px / lens.sigma_px);
  draw_what_was_asked(o, r);
  if (!o.json) fmt::print("written     {}\n", o.output);
  return 0;
}

void print_lens(const LensCalibration& c, const MappingRecord& r, const CalibrateOptions& o) {
  const Lens l = c.mapping.camera().lens, s = sigma_of(c.mapping);
  if (o.json) {
    Json views = Json::array();
    for (size_t v = 0; v < c.views.size(); ++v) {
      Json view{{"picture", r.pictures[v]},
                {"used", c.views[v].used},
                {"rms_px", c.views[v].rms_px},
                {"tilt", c.views[v].tilt.degrees()}};
      if (!c.views[v].used) view["reason"] = c.views[v].reason;
      views.push_back(view);
    }
    const Json own{{"focal_px", {l.fx, l.fy}},
                   {"principal_px", {l.cx, l.cy}},
                   {"radial", radial_of(l)},
                   {"tangential", tangential_of(l)},
                   {"k3_free", c.k3_free},
                   {"sigma",
                    {{"focal_px", {s.fx, s.fy}},
                     {"principal_px", {s.cx, s.cy}},
                     {"radial", radial_of(s)},
                     {"tangential", tangential_of(s)}}},
                   {"largest_px", c.largest_px},
                   {"views", views},
                   {"left_out", c.left_out},
                   {"advice", c.advice}};
    fmt::print("{}\n", json_of(r, own).dump());
    return;
  }
  fmt::print("{:<24} {:>9} {:>7}\n", "view", "rms px", "tilt");
  for (size_t v = 0; v < c.views.size(); ++v)
    fmt::print("{:<24} {:>9.4f} {:>6.1f}\u00b0{}\n", r.pictures[v], c.views[v].rms_px,
               c.views[v].tilt.degrees(), c.views[v].used ? "" : "  LEFT OUT: " + c.views[v].reason);
  fmt::print("\nfocal       {:.3f} \u00b1 {:.3f}, {:.3f} \u00b1 {:.3f} px\n", l.fx, s.fx, l.fy, s.fy);
  fmt::print("principal   {:.3f} \u00b1 {:.3f}, {:.3f} \u00b1 {:.3f} px\n", l.cx, s.cx, l.cy, s.cy);
  fmt::print("radial      k1 {:.5f} \u00b1 {:.5f}, k2 {:.5f} \u00b1 {:.5f}, k3 {}\n", l.k1, s.k1, l.k2, s.k2,
             c.k3_free ? fmt::format("{:.5f} \u00b1 {:.5f}", l.k3, s.k3)
                       : "fixed at 0: the views do not support it");
  fmt::print("tangential  p1 {:.6f} \u00b1 {:.6f}, p2 {:.6f} \u00b1 {:.6f}\n", l.p1, s.p1, l.p2, s.p2);
  fmt::print("residual    rms {:.4f} px, largest {:.3f} px, {} points\n", c.rms_px, c.largest_px,
             c.points.size());
  for (const std::string& words : c.left_out) fmt::print("left out    {}\n", words);
  fmt::print("plane       the board in {}; sigma {} at the middle of the picture\n",
             o.plane.empty() ? r.pictures[0] : base_name(o.plane), sigma_text(sigma_at_middle(r)));
  for (const std::string& words : c.advice) fmt::print("advice      {}\n", words);
}

}  // namespace

int calibrate_board(const CalibrateOptions& o) {
  if (o.pictures.empty())
    fail_argument("calibrate: no picture given; take one of the board lying on the work plane");
  if (o.output.empty()) fail_argument("calibrate: --output MAPPING.toml is missing");
  if (!o.lens_from.empty()) return calibrate_with_lens(o);
  BoardSummary seen;
  const std::optional<MappingRecord> record = mapping_from_pictures(o.pictures, shape_of(o), seen);
  if (!record) return 1;
  if (!fits_well(*record, o)) return 1;
  save_with_care(o.output, *record, o.replace);
  print_plane(*record, seen, o.json);
  draw_what_was_asked(o, *record);
  if (!o.json) fmt::print("written     {}\n", o.output);
  return 0;
}

int calibrate_lens(const CalibrateOptions& o) {
  if (o.output.empty()) fail_argument("calibrate: --output MAPPING.toml is missing");
  if (!o.lens_from.empty())
    fail_argument("calibrate: --lens finds a lens, --lens-from takes one that is known; give one of them");
  const BoardShape shape = shape_of(o);
  MappingRecord r;
  r.made_from = "lens", r.board = shape, r.date = now_text();
  std::vector<BoardView> views;
  LensOptions options;
  Progress progress(o.pictures.size(), "views");
  for (const std::string& path : o.pictures) {
    progress.step();
    auto view = view_of(path, shape, r.width, r.height, nullptr, {.any_part = true});
    if (!view) continue;  // the others may be enough; the reason is reported
    if (path == o.plane) options.plane_view = static_cast<int>(views.size());
    r.pictures.push_back(view->name);
    views.push_back(std::move(*view));
  }
  if (!o.plane.empty() &&
      (views.empty() || r.pictures[static_cast<size_t>(options.plane_view)] != base_name(o.plane)))
    fail_argument(
        fmt::format("calibrate: --plane {} is none of the pictures in which the board was found", o.plane));
  const LensCalibration c = heron::calibrate_lens(views, shape, r.width, r.height, options);
  r.mapping = c.mapping;
  r.rms_px = c.rms_px, r.sigma_px = c.sigma_px, r.points = c.points;
  for (const MappedPoint& p : c.points)
    if (p.view == options.plane_view)
      r.largest_mm = std::max(r.largest_mm, norm(p.residual_px) * r.mapping.mm_per_pixel(p.pixel));
  save_with_care(o.output, r, o.replace);
  print_lens(c, r, o);
  draw_what_was_asked(o, r);
  if (!o.json) fmt::print("written     {}\n", o.output);
  return 0;
}

}  // namespace heron::tool
