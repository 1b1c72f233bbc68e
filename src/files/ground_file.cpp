#include "heron/files/ground_file.hpp"

#include <fmt/format.h>

#include "heron/files/atomic_file.hpp"
#include "heron/files/toml_file.hpp"

namespace heron {
namespace {
constexpr int ground_version = 1;
}

void save_ground(const std::string& path, const GroundPlane& g) {
  write_file(
      path,
      fmt::format(
          "# Able Heron ground: the plane of the table in height maps.\nversion = {}\nkind = \"ground\"\n"
          "offset_mm = {}  # at the middle of the map\nslope = [{}, {}]  # mm of height a mm, along the "
          "picture's x and y\n"
          "pitch_mm = [{}, {}]  # a pixel, in x and y\nmap_size = [{}, {}]\nsigma_mm = {}\nshare = {}  # of "
          "the measured places that lie on it\nsigma_tilt = {}  # degrees\n",
          ground_version, toml_number(g.offset_mm), toml_number(g.slope.x), toml_number(g.slope.y),
          toml_number(g.pitch_mm.x), toml_number(g.pitch_mm.y), g.width, g.height, toml_number(g.sigma_mm),
          toml_number(g.share), toml_number(g.sigma_tilt.degrees())));
}

GroundPlane load_ground(const std::string& path) {
  const TomlTable file = TomlTable::load(path, ground_version);
  file.word("kind", {"ground"});
  GroundPlane g;
  g.offset_mm = file.number("offset_mm");
  const auto slope = file.numbers("slope", 2), pitch = file.numbers("pitch_mm", 2),
             size = file.numbers("map_size", 2);
  g.slope = {slope[0], slope[1]}, g.pitch_mm = {pitch[0], pitch[1]};
  if (!(pitch[0] > 0 && pitch[1] > 0)) file.refuse("pitch_mm", "must be above 0");
  for (const double s : size)
    if (!(s >= 1 && s <= 1e6)) file.refuse("map_size", "must be [WIDTH, HEIGHT] in pixels");
  g.width = static_cast<int>(size[0]), g.height = static_cast<int>(size[1]);
  g.sigma_mm = file.number("sigma_mm", 0), g.share = file.number("share", 0),
  g.sigma_tilt = degrees(file.number("sigma_tilt", 0));
  file.done();
  return g;
}

}  // namespace heron
