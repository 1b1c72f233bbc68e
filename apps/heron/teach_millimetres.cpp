#include "teach_millimetres.hpp"

#include <fmt/format.h>

#include <cmath>

#include "heron/files/mapping_file.hpp"
#include "heron/locate/survey.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

double positive(const std::string& text, const char* option) {
  const double v = parse_numbers(text, 1, option, "millimetres")[0];
  if (!(v > 0)) fail_argument(fmt::format("teach: {} {:g} must be above 0 millimetres", option, v));
  return v;
}

const CameraMapping& camera_of(const MappingRecord& record, const std::string& path) {
  const CameraMapping* camera = record.mapping.camera();
  if (!camera)
    fail_argument(
        fmt::format("teach: --distance counts from a camera, and {} is a plane alone. Calibrate the "
                    "lens (`heron calibrate --lens`), then the plane with `--lens-from`",
                    path));
  return *camera;
}

/// Where the ray of a pixel is that far along the camera's axis.
Eigen::Vector3d place_at(const CameraMapping& camera, Point2 pixel, double distance) {
  const auto ray = ray_of(camera.camera().lens, pixel);
  if (!ray)
    fail_argument(fmt::format("teach: the lens has no ray for pixel ({:.1f}, {:.1f})", pixel.x, pixel.y));
  return *ray * distance;
}

}  // namespace

void MillimetreOptions::add_to(CLI::App& c) {
  c.add_option("--mapping", mapping, "mapping file, for millimetres at teaching");
  c.add_option("--diameter-mm", diameter, "marker: its diameter, instead of one that is learned");
  c.add_option("--tolerance-mm", tolerance, "marker: how far the diameter may be off");
  c.add_option("--distance", distance,
               "millimetres along the camera's axis at which the taught thing stands, instead of on the "
               "mapping's plane: its size is learned by that, unless given");
  c.add_option(
      "--size", size,
      "real length in millimetres of a marker's or a circle's diameter, a color region's longer extent "
      "or a border's first side: a camera mapping then says how far away it is");
}

void MillimetreOptions::apply(const std::string& kind, const Region& region, TargetWords& words) const {
  if (size) words.place.size_mm = *size;
  if (!(words.place.size_mm >= 0 && words.place.size_mm < 1e6))
    fail_argument("teach: --size must be millimetres above 0, or 0 when it is not known");
  const bool in_mm = !diameter.empty() || !tolerance.empty();
  if (in_mm && kind != MarkerTarget::info().word)
    fail_argument("teach: --diameter-mm and --tolerance-mm are a marker's; --kind marker");
  if (distance && !(*distance > 0 && *distance < 1e7))
    fail_argument(fmt::format("teach: --distance {:g} must be above 0 millimetres", *distance));
  if (mapping.empty()) {
    if (in_mm) fail_argument("teach: --diameter-mm and --tolerance-mm need --mapping");
    if (distance) fail_argument("teach: --distance needs --mapping, of the camera that it counts from");
    return;
  }
  const MappingRecord record = load_mapping(mapping);
  if (distance) camera_of(record, mapping);
  if (!tolerance.empty() && diameter.empty())
    fail_argument("teach: --tolerance-mm needs --diameter-mm, of which it is a share");
  if (!in_mm) return;
  const double mm = positive(diameter, "--diameter-mm");
  const Point2 place = region.bounds().centre();
  double pixels = 0;
  if (distance) {
    const CameraMapping& camera = camera_of(record, mapping);
    const Eigen::Vector3d at = place_at(camera, place, *distance), half(0.5 * mm, 0, 0);
    pixels =
        heron::distance(project(camera.camera().lens, at - half), project(camera.camera().lens, at + half));
    if (words.place.size_mm == 0) words.place.size_mm = mm;
  } else {
    pixels = mm / record.mapping.mm_per_pixel(place, words.place.height_mm);
  }
  words.settings["diameter"] = pixels;
  if (!tolerance.empty()) words.settings["tolerance"] = 100 * positive(tolerance, "--tolerance-mm") / mm;
}

std::optional<double> MillimetreOptions::learned_size(const Target& target, const Picture& picture) const {
  if (!distance || target.place().size_mm > 0) return std::nullopt;
  FindLimits limits = target.limits();
  limits.count = FindLimits::all;
  const Findings found = find(target, survey_of(target, picture), limits, Explain::never);
  if (found.sightings.empty() || found.sightings[0].spans.empty())
    fail_argument(fmt::format("teach: --distance learns a size, and a {} has no length that could be one",
                              target.info().word));
  const MappingRecord record = load_mapping(mapping);
  const CameraMapping& camera = camera_of(record, mapping);
  const Span& span = found.sightings[0].spans[0];
  return (place_at(camera, span.to, *distance) - place_at(camera, span.from, *distance)).norm();
}

}  // namespace heron::tool
