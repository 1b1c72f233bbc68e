#include "heron/light/light.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/picture_file.hpp"
#include "log.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct LightCommand {
  std::vector<std::string> pictures, without;
  std::string region, drawing, board;
  std::optional<double> exposure;
  double longest = 0, moving = 0;
  BoardShape shape;
  bool json = false;
};

const char* word_of(Fitness f) {
  return f == Fitness::unknown ? "-" : f == Fitness::good ? "good" : f == Fitness::fair ? "fair" : "poor";
}

/// Cameras of 10 to 14 bits may put them into the low bits of 16: such a picture is dark to every command.
void warn_of_low_bits(const Picture& picture, const std::string& path) {
  const auto* pixels = std::get_if<Image<uint16_t>>(&picture.pixels);
  if (!pixels) return;
  uint16_t most = 0;
  for (int y = 0; y < pixels->height(); ++y)
    most = std::max(most, *std::max_element(pixels->row(y), pixels->row(y) + pixels->width()));
  int bits = 16;
  while (bits > 8 && most < 1 << (bits - 1)) --bits;
  if (bits <= 14)
    log_note(
        "light: note: {} holds values to {} of 65535. If its camera has {} bits and puts them into "
        "the low ones, multiply them by {}; every command takes the picture for as dark as it is",
        path, most, bits, 1 << (16 - bits));
}

LightOptions options_of(const LightCommand& o) {
  LightOptions options;
  if (!o.region.empty()) options.region = parse_region(o.region, "--region");
  for (const std::string& text : o.without) {
    if (o.region.empty()) fail_argument("light: --without cuts parts out of --region; give that too");
    options.region.subtract(parse_region(text, "--without"));
  }
  options.exposure_ms = o.exposure, options.longest_exposure_ms = o.longest,
  options.moving_px_per_ms = o.moving / 1000;
  if (!o.board.empty()) {
    options.board = o.shape;
    options.board->kind = parse_board_kind(o.board);
  }
  return options;
}

void print_light(const std::string& path, const LightReport& r, bool json) {
  if (json) {
    Json measures = Json::array(), glares = Json::array();
    for (const LightMeasure& m : r.measures)
      measures.push_back({{"name", m.name},
                          {"value", std::isnan(m.value) ? Json(nullptr) : Json(m.value)},
                          {"unit", m.unit},
                          {"verdict", word_of(m.fitness)},
                          {"words", m.words}});
    for (const GlareSpot& g : r.glares)
      glares.push_back({{"x", g.centre.x}, {"y", g.centre.y}, {"radius", g.radius_px}});
    fmt::print("{}\n", Json{{"picture", path},
                            {"verdict", word_of(r.overall)},
                            {"measures", measures},
                            {"glares", glares},
                            {"advice", r.advice}}
                           .dump(-1, ' ', false, Json::error_handler_t::replace));
    return;
  }
  fmt::print("{}: {}\n", path, word_of(r.overall));
  for (const LightMeasure& m : r.measures)
    fmt::print("  {:<11} {:<5} {}\n", m.name, word_of(m.fitness), m.words);
  for (size_t i = 0; i < r.advice.size(); ++i)
    fmt::print("  {:<11} {}. {}\n", i == 0 ? "to do" : "", i + 1, r.advice[i]);
}

int judge_all(const LightCommand& o) {
  require_not_read({o.drawing}, o.pictures);
  const LightOptions options = options_of(o);
  bool poor = false;
  for (size_t i = 0; i < o.pictures.size(); ++i) {
    const Picture picture = load_picture(o.pictures[i]);
    warn_of_low_bits(picture, o.pictures[i]);
    const auto* heights = std::get_if<Image<float>>(&picture.pixels);
    const LightReport report =
        heights ? judge_heights(*heights, options.region) : judge_light(grey_levels(picture), options);
    poor = poor || report.overall == Fitness::poor;
    print_light(o.pictures[i], report, o.json);
    if (!o.drawing.empty() && !heights)
      save_picture(numbered(o.drawing, i, o.pictures.size()),
                   draw_light(grey_levels(picture), report, options.region));
    std::fflush(stdout);
  }
  return poor ? 1 : 0;
}

}  // namespace

void add_light(CLI::App& app, Action& action) {
  auto o = std::make_shared<LightCommand>();
  CLI::App* c = app.add_subcommand("light", "Checks the lighting of a picture and advises what to change");
  c->add_option("pictures", o->pictures, "pictures; a height map is judged by its missing pixels")
      ->required();
  c->add_option("--region", o->region, "X,Y,WIDTH,HEIGHT of the region to check; default: the whole picture");
  c->add_option("--without", o->without, "X,Y,WIDTH,HEIGHT cut out of --region; may be repeated")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  c->add_option("--exposure", o->exposure,
                "present exposure, milliseconds; the advice then names the new one");
  c->add_option("--longest", o->longest, "longest exposure that the cycle time allows, milliseconds");
  c->add_option("--moving", o->moving,
                "speed of the parts, pixels per second; motion blur may reach half a pixel");
  c->add_option("--board", o->board,
                "dots or checker: a board in the picture, for measuring the camera's perpendicularity");
  c->add_option("--columns", o->shape.columns, "of that board")->capture_default_str();
  c->add_option("--rows", o->shape.rows, "of that board")->capture_default_str();
  c->add_option("--picture", o->drawing, "draws saturated, black and glaring places, and the histogram");
  c->add_flag("--json", o->json, "prints one JSON object for each picture");
  c->footer(
      "Example: heron light teach.png --region 467,434,212,164 --exposure 8 --longest 20 --picture "
      "light.png\nExit status 1 when something is poor.");
  c->callback([o, &action] { action = [o] { return judge_all(*o); }; });
}

}  // namespace heron::tool
