#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/ground_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/heights/square.hpp"
#include "log.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

struct LevelOptions {
  std::vector<std::string> maps;
  std::string pitch, region, from, save, output, band, mask, picture, range, intensity;
  bool json = false, square = false;
};

/// A leveled map as it is written and drawn.
struct Leveled {
  Image<float> heights;
  Point2 pitch_mm;
  Image<uint8_t> intensity;  ///< empty where none is given
};

Leveled leveled_of(const Image<float>& map, const GroundPlane& plane, const LevelOptions& o) {
  Leveled l{leveled(map, plane), plane.pitch_mm, {}};
  if (!o.intensity.empty()) l.intensity = grey_levels(load_picture(o.intensity));
  if (!o.square) return l;
  auto square = on_square_pixels(l.heights, plane.pitch_mm);
  if (!l.intensity.empty()) l.intensity = on_square_pixels(l.intensity, plane.pitch_mm).pixels;
  return {std::move(square.pixels), {square.pitch_mm, square.pitch_mm}, std::move(l.intensity)};
}

Image<float> heights_of(const std::string& path) {
  Picture picture = load_picture(path);
  auto* map = std::get_if<Image<float>>(&picture.pixels);
  if (!map)
    fail_argument(path +
                  ": is no height map; a height map is a TIFF of 32 bit float millimetres, NaN where nothing "
                  "was measured");
  return std::move(*map);
}

void print_ground(const std::string& path, const GroundPlane& g, const LevelOptions& o) {
  if (o.json) {
    const nlohmann::ordered_json j{{"map", path},
                                   {"kind", "ground"},
                                   {"offset_mm", g.offset_mm},
                                   {"slope", {g.slope.x, g.slope.y}},
                                   {"tilt", g.tilt().degrees()},
                                   {"tilt_direction", direction(g.slope).degrees()},
                                   {"share", g.share},
                                   {"sigma_mm", g.sigma_mm},
                                   {"sigma", {{"tilt", g.sigma_tilt.degrees()}}}};
    fmt::print("{}\n", j.dump());
    return;
  }
  fmt::print(
      "{}: tilt {:.4f} \u00b1 {:.4f} degrees, rising towards the picture's direction {:.1f} degrees; {:.4f} "
      "mm high at the middle\n",
      path, g.tilt().degrees(), g.sigma_tilt.degrees(), direction(g.slope).degrees(), g.offset_mm);
  if (o.from.empty())
    fmt::print("  {:.1f} % of the measured places lie on it, scattering by {:.4f} mm\n", 100 * g.share,
               g.sigma_mm);
}

int level_all(const LevelOptions& o) {
  std::vector<std::string> read = o.maps;
  read.push_back(o.from), read.push_back(o.intensity);
  require_not_read({o.save, o.output, o.mask, o.picture}, read);
  std::optional<GroundPlane> known;
  if (!o.from.empty()) known = load_ground(o.from);
  Point2 pitch{1, 1};
  if (!o.pitch.empty())
    pitch = parse_point(o.pitch, "--pitch");
  else if (!known)
    fail_argument("level: --pitch X,Y says how many millimetres a pixel is in both directions");
  for (const auto& [given, option] :
       {std::pair{!o.pitch.empty(), "--pitch"}, {!o.region.empty(), "--region"}, {!o.save.empty(), "--save"}})
    if (known && given)
      fail_argument(
          fmt::format("level: {} belongs to looking for the table; --from takes plane and pitch from {}",
                      option, o.from));
  if (!o.band.empty() && o.mask.empty())
    fail_argument("level: --band says what --mask keeps; give --mask FILE.png");
  for (const auto& [given, option] :
       {std::pair{!o.range.empty(), "--range"}, {!o.intensity.empty(), "--intensity"}})
    if (given && o.picture.empty())
      fail_argument(fmt::format("level: {} belongs to the drawing; give --picture FILE.png", option));
  if (o.square && o.output.empty() && o.picture.empty() && o.mask.empty())
    fail_argument("level: --square changes what is written or drawn; give --output, --mask or --picture");
  if (!o.intensity.empty() && o.maps.size() != 1)
    fail_argument("level: --intensity belongs to one map; give one");
  if (!o.mask.empty() && o.band.empty())
    fail_argument("level: --mask needs --band FROM..TO, the heights above the table that stay");
  const Region region = o.region.empty() ? Region() : Region::rectangle(parse_box(o.region, "--region"));
  bool nothing = false;
  for (size_t i = 0; i < o.maps.size(); ++i) {
    const Image<float> map = heights_of(o.maps[i]);
    GroundPlane plane;
    if (known) {
      plane = *known;
    } else {
      const GroundFound found = find_ground(map, pitch, region);
      if (!found.found) {
        log_error("level: {}: {}", o.maps[i], found.reason);
        nothing = true;
        continue;
      }
      plane = found.plane;
    }
    print_ground(o.maps[i], plane, o);
    if (!o.save.empty()) save_ground(numbered(o.save, i, o.maps.size()), plane);
    const Leveled level = leveled_of(map, plane, o);
    if (o.square && !o.json)
      fmt::print("  on square pixels of {:g} mm: {} x {}\n", level.pitch_mm.x, level.heights.width(),
                 level.heights.height());
    if (!o.output.empty()) {
      Picture picture;
      picture.pixels = level.heights, picture.pitch_mm = level.pitch_mm;
      save_picture(numbered(o.output, i, o.maps.size()), picture);
    }
    if (!o.mask.empty())
      save_picture(numbered(o.mask, i, o.maps.size()),
                   height_band(level.heights, parse_range(o.band, "--band")));
    if (!o.picture.empty()) {
      const ImageView<const uint8_t> shades = level.intensity;
      save_picture(
          numbered(o.picture, i, o.maps.size()),
          draw_heights(level.heights,
                       o.range.empty() ? std::nullopt : std::optional(parse_range(o.range, "--range")),
                       level.pitch_mm, o.intensity.empty() ? nullptr : &shades));
    }
  }
  return nothing ? 1 : 0;
}

}  // namespace

void add_level(CLI::App& app, Action& action) {
  auto o = std::make_shared<LevelOptions>();
  CLI::App* c = app.add_subcommand("level", "Finds the table in a height map and measures heights above it");
  c->add_option("maps", o->maps, "height maps: float TIFF in millimetres")->required();
  c->add_option("--pitch", o->pitch, "X,Y: millimetres per pixel in both directions");
  c->add_option("--region", o->region,
                "X,Y,WIDTH,HEIGHT in which the table is searched; default: everywhere");
  c->add_option("--save", o->save, "saves the plane to a file, for later maps");
  c->add_option("--from", o->from, "takes the plane from such a file");
  c->add_option("--output", o->output, "leveled map to write, .tif");
  c->add_flag("--square", o->square,
              "resamples the map to square pixels of the finer pitch; needed for finding parts at any angle");
  c->add_option("--band", o->band, "FROM..TO: heights above the table that --mask keeps, millimetres");
  c->add_option("--mask", o->mask, "mask of the pixels in that band to write, .png");
  c->add_option("--picture", o->picture, "draws the leveled map in colors with a scale bar");
  c->add_option("--intensity", o->intensity, "grey picture of the same scene; shades the drawing");
  c->add_option("--range", o->range,
                "FROM..TO: range of the colors, millimetres; default: chosen from the map");
  c->add_flag("--json", o->json, "prints one JSON object for each map");
  c->footer(
      "Example: heron level stack.tif --pitch 0.2,0.25 --save ground.toml --band 1..20 --mask parts.png "
      "--picture level.png\nExit status 1 when a map shows no table.");
  c->callback([o, &action] { action = [o] { return level_all(*o); }; });
}

}  // namespace heron::tool
