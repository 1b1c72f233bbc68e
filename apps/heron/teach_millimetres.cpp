#include "teach_millimetres.hpp"

#include <fmt/format.h>

#include <cmath>

#include "help.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/locate/prepared_picture.hpp"
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
  const auto add = [&](const char* name, auto& value, const char* help) {
    c.add_option(name, value, help)->group(where_group);
  };
  add("--mapping", mapping, "mapping file, for millimetres at teaching");
  add("--diameter-mm", diameter, "diameter of the marker, millimetres; default: learned");
  add("--tolerance-mm", tolerance, "largest difference of the diameter, millimetres");
  add("--distance", distance,
      "distance of the taught part along the camera's axis, millimetres; its size is learned from it");
  add("--size", size,
      "real length of what the kind measures first (diameter, longer extent, first side), millimetres; a "
      "camera "
      "mapping then gives the distance");
}

void MillimetreOptions::apply(const std::string& kind, const Region& region, TeachOptions& teaching) const {
  if (size) teaching.geometry.size_mm = *size;
  if (!(teaching.geometry.size_mm >= 0 && teaching.geometry.size_mm < 1e6))
    fail_argument("teach: --size must be millimetres above 0, or 0 when it is not known");
  const bool in_mm = !diameter.empty() || !tolerance.empty();
  if (in_mm && kind != MarkerTarget::info().id)
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
    if (teaching.geometry.size_mm == 0) teaching.geometry.size_mm = mm;
  } else {
    pixels = mm / record.mapping.mm_per_pixel(place, teaching.geometry.height_mm);
  }
  teaching.settings["diameter"] = pixels;
  if (!tolerance.empty()) teaching.settings["tolerance"] = 100 * positive(tolerance, "--tolerance-mm") / mm;
}

std::optional<double> MillimetreOptions::learned_size(const Target& target, const Picture& picture) const {
  if (!distance || target.geometry().size_mm > 0) return std::nullopt;
  FindOptions options = target.options();
  options.max_count = FindOptions::all;
  const FindResult found = find(target, prepare(picture, target), options, Explain::never);
  if (found.detections.empty() || found.detections[0].lengths.empty())
    fail_argument(fmt::format("teach: --distance learns a size, and a {} has no length that could be one",
                              target.info().id));
  const MappingRecord record = load_mapping(mapping);
  const CameraMapping& camera = camera_of(record, mapping);
  const MeasuredLength& span = found.detections[0].lengths[0];
  return (place_at(camera, span.to, *distance) - place_at(camera, span.from, *distance)).norm();
}

}  // namespace heron::tool
