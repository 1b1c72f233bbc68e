#pragma once
#include <cmath>

#include "heron/gauge/measure.hpp"
#include "heron/geometry/mapping.hpp"
#include "heron/locate/target.hpp"
#include "heron/render/bench_station.hpp"
#include "heron/render/studio_views.hpp"
#include "heron/render/tray_station.hpp"

namespace inspection {

using namespace heron;

constexpr double scale = 4;  // pixels a millimetre
constexpr int width = 760, height = 720;

/// How a picture is taken.
struct Shot {
  double light = 1, noise = 2, blur = 0.8;
  uint64_t seed = 1;
};

inline CameraModel camera() { return render::straight_camera(width, height, scale); }
inline Mapping mapping() {
  return PlaneMapping(render::pixel_from_table(camera()), PlaneMapping::Covariance::Zero());
}

/// Any number of parts, each with its pose on the table.
inline render::Scene scene_of(const std::vector<render::Piece>& pieces, const Shot& shot = {}) {
  render::Scene scene;
  scene.camera = camera();
  scene.width = width, scene.height = height, scene.background = 0.3;
  scene.pieces = pieces;
  scene.light.level = shot.light, scene.blur_px = shot.blur;
  return scene;
}
inline Image<uint8_t> picture_of(const std::vector<render::Piece>& pieces, const Shot& shot = {}) {
  render::Random random(shot.seed);
  return render::expose(render::exact_picture(scene_of(pieces, shot)), {.sigma = shot.noise}, random);
}
inline std::array<Image<float>, 3> exact_color(const std::vector<render::Piece>& pieces,
                                               const Shot& shot = {}) {
  return render::exact_channels(scene_of(pieces, shot));
}

/// Picture coordinates of a point of the table.
inline Point2 pixel(Point2 table) {
  return {(width - 1) / 2.0 + scale * table.x, (height - 1) / 2.0 - scale * table.y};
}

// Shapes on the reference picture from millimetres of a part that lies at `pose`.
inline std::vector<double> band(const Pose2& pose, Point2 at, double length, double across,
                                double direction_deg) {
  const Point2 p = pixel(pose * at);
  return {p.x, p.y, length * scale, across * scale, -(pose.angle.degrees() + direction_deg)};
}
inline std::vector<double> ring(const Pose2& pose, Point2 at, double inner, double outer,
                                double start_deg = 0, double sweep_deg = 360) {
  const Point2 p = pixel(pose * at);
  return {p.x, p.y, inner * scale, outer * scale, -(pose.angle.degrees() + start_deg), sweep_deg};
}
inline std::vector<double> box(const Pose2& pose, Point2 at, double w, double h) {
  const Point2 p = pixel(pose * at);
  return {p.x, p.y, w * scale, h * scale, -pose.angle.degrees()};
}

/// A pattern of a part lying alone at `pose`; `masked` millimetre boxes (x, y, width, height) of it are left
/// out.
inline Target taught(const char* name, const Image<uint8_t>& picture, const Pose2& pose, Point2 half_mm,
                     const std::vector<std::array<double, 4>>& masked = {}) {
  const Point2 at = pixel(pose.position());
  Region region = Region::rectangle(at, 2 * half_mm.x * scale, 2 * half_mm.y * scale, -pose.angle);
  for (const auto& m : masked)
    region.subtract(
        Region::rectangle(pixel(pose * Point2{m[0], m[1]}), m[2] * scale, m[3] * scale, -pose.angle));
  return teach_target("pattern", {.grey = picture, .region = region}, {.name = name, .origin = at});
}

inline const Pose2 panel_pose{2, -3, degrees(7)};
/// The panel's border and corners; what is measured is masked, so that it does not move the pose.
inline Target panel_target() {
  const Image<uint8_t> picture = picture_of(render::pieces_of(render::BenchPanel{}, panel_pose));
  return taught("panel", picture, panel_pose, {65, 45},
                {{-35, -8, 16, 48}, {35, -8, 16, 48}, {0, 24, 22, 22}, {0, -6, 34, 26}});
}

/// Adds a gauge drawn on the panel at its reference pose.
inline GaugeSet set_of(const Target& target, const Image<uint8_t>& reference,
                       const std::vector<Gauge>& gauges, const Frames& frames = {}) {
  const PreparedPicture prepared{Image<uint8_t>(reference)};
  GaugeSet set;
  set.targets.push_back(*attached(target, target.name() + ".png", prepared));
  for (const Gauge& g : gauges) add_gauge(set, g, prepared, frames);
  return set;
}

/// Slots' distance, hole, angle of the right side, and what they are made of.
inline std::vector<Gauge> panel_gauges(const Pose2& pose = panel_pose) {
  const auto edge = [&](const char* name, Point2 at, double direction, double across) {
    return Gauge{
        .name = name, .anchor = "panel", .kind = EdgeGauge{.band = band(pose, at, 14, across, direction)}};
  };
  return {{.name = "left slot",
           .anchor = "panel",
           .kind = WidthGauge{.band = band(pose, {-35, -8}, 20, 30, 0), .tone = WidthTone::dark}},
          {.name = "right slot",
           .anchor = "panel",
           .kind = WidthGauge{.band = band(pose, {35, -8}, 20, 30, 0), .tone = WidthTone::dark}},
          {.name = "slot distance", .kind = DistanceGauge{.between = {"left slot", "right slot"}}},
          {.name = "hole",
           .anchor = "panel",
           .kind = CircleGauge{.ring = ring(pose, render::BenchPanel::hole_at, 4, 12)}},
          edge("lower side", {0, -40}, 90, 60),
          edge("right side", {60, 0}, 180, 50),
          {.name = "squareness", .kind = AngleGauge{.between = {"lower side", "right side"}}}};
}

inline const Reading* reading(const Report& report, const std::string& name, std::optional<size_t> part = 0,
                              bool fixed = false) {
  for (const Reading& r : report.readings)
    if (r.gauge == name && r.part == part && r.fixed == fixed) return &r;
  return nullptr;
}
inline Report measured(const GaugeSet& set, const Image<uint8_t>& picture, const Frames& frames = {},
                       const MeasureOptions& options = {}) {
  return find_and_measure(set, PreparedPicture(Image<uint8_t>(picture)), frames, options);
}

}  // namespace inspection
