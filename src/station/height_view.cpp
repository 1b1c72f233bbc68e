#include "height_view.hpp"

#include <fmt/format.h>

#include <cmath>

#include "heron/base/error.hpp"
#include "heron/files/ground_file.hpp"
#include "heron/heights/square.hpp"
#include "heron/locate/names.hpp"

namespace heron {
namespace {

bool same_pitch(Point2 a, Point2 b) {
  constexpr double share = 0.005;  // files round
  return std::abs(a.x - b.x) <= share * b.x && std::abs(a.y - b.y) <= share * b.y;
}

/// Where a part is gripped, in the map.
Point2 grasp_pixel(const Detection& d, const Mapping& mapping, const PartFromGrasp& grasp) {
  if (grasp.x == 0 && grasp.y == 0) return {d.x, d.y};
  const WorldPoint at = mapping.world_from_pixel({d.x, d.y});
  const Pose2 part{at.x, at.y, mapping.world_angle({d.x, d.y}, d.angle).turn()};
  return mapping.pixel_from_world(WorldPoint((part * grasp.plain()).position()));
}

}  // namespace

HeightView::HeightView(const HeightSettings& settings) : settings_(settings) {
  if (settings_.ground.empty()) return;
  ground_ = load_ground(settings_.ground);
  if (settings_.pitch_mm && !same_pitch(*settings_.pitch_mm, ground_->pitch_mm))
    fail_argument(
        fmt::format("station: pitch = [{:g}, {:g}] in [heights], and {} was found with {:g}, {:g}; find the "
                    "table again with the right one",
                    settings_.pitch_mm->x, settings_.pitch_mm->y, settings_.ground, ground_->pitch_mm.x,
                    ground_->pitch_mm.y));
}

LevelMap HeightView::level(const Picture& picture) const {
  const auto* map = std::get_if<Image<float>>(&picture.pixels);
  if (!map)
    fail_argument(fmt::format(
        "station: {} is no height map, and this set-up has [heights]; a height map is a TIFF of 32 bit "
        "float millimetres",
        picture.name));
  const auto pitch = settings_.pitch_mm ? settings_.pitch_mm
                     : ground_          ? std::optional(ground_->pitch_mm)
                                        : picture.pitch_mm;
  if (!pitch)
    fail_argument(fmt::format(
        "station: {} does not say how large its pixels are; give pitch = [X, Y] in [heights]", picture.name));
  if (!settings_.pitch_mm && picture.pitch_mm && !same_pitch(*pitch, *picture.pitch_mm))
    fail_argument(fmt::format(
        "station: {} has pixels of {:g} x {:g} mm, and {} was found with {:g} x {:g}; find the "
        "table again, or give pitch in [heights] if the map is wrong",
        picture.name, picture.pitch_mm->x, picture.pitch_mm->y, settings_.ground, pitch->x, pitch->y));
  LevelMap level;
  GroundPlane plane;
  if (ground_) {
    plane = *ground_;
  } else {
    const GroundFound found = find_ground(*map, *pitch);
    if (!found.found) {
      level.unusable = fmt::format("no table: {}", found.reason);
      return level;
    }
    plane = found.plane;
  }
  auto square = on_square_pixels(leveled(*map, plane), *pitch);
  level.pitch_mm = square.pitch_mm;
  level.middle = {0.5 * (map->width() - 1) * pitch->x / level.pitch_mm,
                  0.5 * (map->height() - 1) * pitch->y / level.pitch_mm};
  level.picture.pixels = std::move(square.pixels), level.picture.name = picture.name;
  level.picture.pitch_mm = Point2{square.pitch_mm, square.pitch_mm};
  return level;
}

Mapping HeightView::mapping_of(const LevelMap& map) {
  const double scale = 1 / map.pitch_mm;
  Homography pixel_from_world;
  pixel_from_world << scale, 0, map.middle.x, 0, -scale, map.middle.y, 0, 0, 1;
  return PlaneMapping(pixel_from_world);
}

std::optional<HeightAt> HeightView::measured(const Detection& d, const LevelMap& map, const Mapping& mapping,
                                             const PartFromGrasp& grasp) const {
  return height_at(std::get<Image<float>>(map.picture.pixels), grasp_pixel(d, mapping, grasp),
                   std::max(settings_.radius_mm / map.pitch_mm, 1.5), map.pitch_mm);
}

std::optional<double> HeightView::height(const Detection& d, const LevelMap& map, const Mapping& mapping,
                                         const PartFromGrasp& grasp) const {
  const auto at = measured(d, map, mapping, grasp);
  if (!at || at->share < settings_.min_share) return std::nullopt;
  return at->height_mm;
}

std::optional<Miss> HeightView::measure(ReportedPart& part, const LevelMap& map, const Mapping& mapping,
                                        const PartGeometry& geometry) const {
  Detection& d = part.detection;
  const auto at = measured(d, map, mapping, geometry.grasp);
  if (!at || at->share < settings_.min_share) {
    part.robot.reset();  // its z would be a guess
    part.withheld = fmt::format(
        "its height is not known: {:.0f} % of the disc about its grasp was measured and lies on one surface, "
        "needed "
        "at least {:.0f} %",
        at ? 100 * at->share : 0, 100 * settings_.min_share);
    return std::nullopt;
  }
  if (const auto& band = settings_.band_mm; band && (at->height_mm < band->min || at->height_mm > band->max))
    return Miss{
        .x = d.x,
        .y = d.y,
        .angle = d.angle,
        .scale = d.scale,
        .score = d.score,
        .reasons = {{limit::height, at->height_mm, fmt::format("{:g} to {:g}", band->min, band->max)}},
        .has_angle = d.has_angle};
  d.measurements.push_back({measurement::height_mm, at->height_mm});
  d.measurements.push_back({measurement::height_sigma, at->sigma_mm});
  d.measurements.push_back({measurement::height_tilt, at->tilt.degrees()});
  d.measurements.push_back({measurement::height_tilt_sigma, at->sigma_tilt.degrees()});
  d.measurements.push_back({measurement::height_share, at->share});
  if (part.world) part.world->z_mm = at->height_mm;
  if (part.robot) part.robot->z_mm = settings_.table_z_mm + at->height_mm;
  if (at->tilt.degrees() > settings_.max_tilt_deg)
    part.withheld = fmt::format("its surface is tilted by {:.1f} degrees, at most {:g} are allowed",
                                at->tilt.degrees(), settings_.max_tilt_deg);
  return std::nullopt;
}

}  // namespace heron
