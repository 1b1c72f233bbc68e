#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "find_arguments.hpp"
#include "help.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/image/relief.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/teaching.hpp"
#include "kind_options.hpp"
#include "log.hpp"
#include "options.hpp"
#include "steps.hpp"
#include "teach_millimetres.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct TeachArguments {
  std::string picture, kind = "pattern", region, origin, output, name, drawing, preview, grasp;
  std::vector<std::string> with, without, also;
  std::optional<double> edge_threshold, height;
  std::optional<int> detail;
  double stable_share = 0.75;
  std::vector<std::string> backgrounds, counter_samples;
  FindArguments options;
  KindOptions kind_settings;
  MillimetreOptions millimetres;
  bool replace = false, json = false;
};

/// What is said about the target: what was given, and else what the target that stands there has, or its
/// kind.
TeachOptions teach_options(const TeachArguments& o, const Target* before) {
  TeachOptions teaching;
  teaching.name = !o.name.empty()     ? o.name
                  : before            ? before->name()
                  : !o.output.empty() ? std::filesystem::path(o.output).stem().string()
                                      : o.kind;
  if (!o.origin.empty()) teaching.origin = parse_point(o.origin, "--origin");
  teaching.options = o.options.applied_to(before ? before->options() : find_options_of(o.kind));
  if (before) teaching.geometry = before->geometry();
  if (o.height) teaching.geometry.height_mm = *o.height;
  if (!std::isfinite(teaching.geometry.height_mm))
    fail_argument("teach: --height must be a finite number of millimetres");
  if (!o.grasp.empty()) {
    const auto grasp =
        parse_numbers(o.grasp, 3, "--grasp", "X,Y,ANGLE in millimetres and degrees, for example 12,0,90");
    teaching.geometry.grasp = PartFromGrasp(grasp[0], grasp[1], WorldAngle(degrees(grasp[2])));
  }
  teaching.settings = o.kind_settings.given(o.kind);
  o.millimetres.apply(o.kind, parse_region(o.region, "--region"), teaching);
  if (o.kind == PatternTarget::info().id) {
    if (before)
      for (const NamedSetting& s : before->settings()) teaching.settings[s.name] = s.value;
    if (o.edge_threshold) teaching.settings["edge_threshold"] = *o.edge_threshold;
    if (o.detail) teaching.settings["detail"] = *o.detail;
  }
  return teaching;
}

/// A picture with everything that a kind may be taught from; owns what `view` looks at.
struct Taught {
  Picture loaded;
  Relief grey;
  std::vector<Image<uint8_t>> backgrounds;

  TeachingPicture view(const Region& region, const TeachArguments& o) const {
    TeachingPicture picture{.grey = grey.pixels, .region = region, .valid = grey.valid};
    if (const auto* color = std::get_if<Image<Rgb>>(&loaded.pixels)) picture.color = *color;
    for (const Image<uint8_t>& background : backgrounds) picture.backgrounds.push_back(background);
    for (const std::string& text : o.counter_samples)
      picture.counter_samples.push_back(parse_region(text, "--not"));
    return picture;
  }
};

/// Grey levels, or the relief of a height map, whose step is then set.
Relief taught_pixels(const Picture& picture, const Region& region, const TeachArguments& o,
                     TeachOptions& teaching) {
  require_square_pixels(picture);
  const auto* heights = std::get_if<Image<float>>(&picture.pixels);
  const bool pattern = o.kind == PatternTarget::info().id;
  if (pattern) teaching.settings["height_step_mm"] = 0.0;
  if (!heights) {  // what is transparent does not count
    std::optional<Image<uint8_t>> opaque = load_opaque(o.picture);
    return {grey_levels(picture), opaque ? std::move(*opaque) : Image<uint8_t>()};
  }
  if (!pattern)
    fail_argument(
        fmt::format("teach: {} is a height map; a {} is taught from a picture, a pattern from either",
                    o.picture, o.kind));
  require_inside(region, heights->width(), heights->height());
  const double step = relief_step(*heights, region.mask(heights->width(), heights->height()));
  teaching.settings["height_step_mm"] = step;
  if (!o.options.min_contrast) teaching.options->min_contrast = FindOptions{}.min_contrast * step;
  return relief_of(*heights, step);
}

using Words = std::vector<std::pair<std::string, std::string>>;

Words lines_of(const Target& target) {
  const TaughtPicture& taught = target.taught();
  Words words{{"kind", target.info().id},
              {"name", target.name()},
              {"pixels", fmt::format("{} x {}", taught.pixels.width(), taught.pixels.height())}};
  for (const Measurement& f : target.facts()) words.emplace_back(f.name, fmt::format("{:.4g}", f.value));
  for (const NamedSetting& s : target.settings()) words.emplace_back(s.name, setting_words(s.value));
  for (auto& word : option_words(target.options(), target.info())) words.push_back(std::move(word));
  const PartFromGrasp& g = target.geometry().grasp;
  words.emplace_back("height", fmt::format("{:g} mm", target.geometry().height_mm));
  if (target.geometry().size_mm > 0)
    words.emplace_back("size", fmt::format("{:g} mm", target.geometry().size_mm));
  words.emplace_back("grasp", fmt::format("{:g},{:g},{:g}", g.x, g.y, g.angle.degrees()));
  return words;
}

/// What a target that stands there would become; on standard error, beside the results.
void print_change(const std::string& path, const Target& before, const Target& after) {
  log_note("teach: {} is taught already\n  {:<16} {:>20} {:>20}", path, "", "now", "new");
  Words a = lines_of(before);
  for (const auto& [name, value] : lines_of(after)) {
    const auto same = std::find_if(a.begin(), a.end(),
                                   [&, &wanted = name](const auto& row) { return row.first == wanted; });
    const std::string was = same == a.end() ? "-" : same->second;
    fmt::print(stderr, "  {:<16} {:>20} {:>20}{}\n", name, was, value, was == value ? "" : "  changed");
    if (same != a.end()) a.erase(same);
  }
}

/// What a person would do about it.
std::vector<std::string> advice_of(const TeachingReport& r) {
  std::vector<std::string> advice;
  if (r.cut_places > 1)
    advice.push_back(
        fmt::format("edges run into the border of what is taught at {} places: widen the region if "
                    "they are the part's, cut them out if not",
                    r.cut_places));
  if (r.saturated > 0.1)
    advice.push_back(fmt::format(
        "{:.0f} % of the pixels beside edges are as bright as can be: less light, or mask the glare",
        100 * r.saturated));
  if (r.weakest_contrast < 6 * r.noise_sigma)
    advice.push_back("the weakest edges hardly rise above the noise: raise --edge-threshold");
  if (r.hidden_at_half > 0.25)
    advice.push_back(fmt::format(
        "the min contrast hides {:.0f} % of the edges when the light falls to half: lower it with "
        "--min-contrast",
        100 * r.hidden_at_half));
  if (r.slide_ratio > 4)
    advice.push_back(
        fmt::format("the position is {:.0f} times less sure along {:.0f} degrees than across: take "
                    "in edges that run across that direction",
                    r.slide_ratio, r.slide.degrees()));
  if (r.turned && r.turned->score > 70)
    advice.push_back(fmt::format(
        "turned by {:.0f} degrees it resembles itself ({:.0f}): take in what tells the two apart, or set "
        "--min-score above",
        r.turned->angle.degrees(), r.turned->score));
  if (r.elsewhere && r.elsewhere->score > 50)
    advice.push_back(fmt::format(
        "something at ({:.0f}, {:.0f}) resembles it ({:.0f}): set --min-score above, if it is none",
        r.elsewhere->x, r.elsewhere->y, r.elsewhere->score));
  return advice;
}

Json json_of(const Likeness& l) {
  return {{"score", l.score}, {"x", l.x}, {"y", l.y}, {"angle", l.angle.degrees()}};
}

Json json_of(const SettingValue& value) {
  return std::visit([](const auto& v) { return Json(v); }, value);
}

/// A kind without a report of its own: the results of teaching, and the settings.
Json json_of(const Target& target) {
  Json facts = Json::object(), settings = Json::object();
  for (const Measurement& f : target.facts()) facts[f.name] = f.value;
  for (const NamedSetting& s : target.settings()) settings[s.name] = json_of(s.value);
  return {{"facts", facts}, {"settings", settings}};
}

Json json_of(const PatternTarget& target, const TeachingReport& r) {
  return {{"edges", r.edges},
          {"edge_threshold", target.edge_threshold()},
          {"noise", r.noise_sigma},
          {"contrast", {{"median", r.median_contrast}, {"weakest", r.weakest_contrast}}},
          {"sigma",
           {{"x", *r.expected.x},
            {"y", *r.expected.y},
            {"angle", r.turns ? Json(r.expected.angle->degrees()) : Json(nullptr)},
            {"scale", *r.expected.scale}}},
          {"same_after", r.turns ? Json(360.0 / r.turns) : Json(0.0)},
          {"turned", r.turned ? json_of(*r.turned) : Json(nullptr)},
          {"elsewhere", r.elsewhere ? json_of(*r.elsewhere) : Json(nullptr)},
          {"advice", advice_of(r)}};
}

void print_json(const Target& target, const std::optional<TeachingReport>& r, const std::string& written) {
  Json j{{"target", target.name()},
         {"kind", target.info().id},
         {"written", written.empty() ? Json(nullptr) : Json(written)}};
  j.update(r ? json_of(*target.as<PatternTarget>(), *r) : json_of(target));
  fmt::print("{}\n", j.dump(-1, ' ', false, Json::error_handler_t::replace));
}

void print_table(const PatternTarget& target, const TeachingReport& r) {
  const bool relief = target.settings().height_step_mm > 0;
  const char* unit = relief ? "mm" : "grey levels";
  fmt::print("  edges      {} of at least {:.3g} {}; on coarser levels {}\n", r.edges[0],
             target.edge_threshold(), unit, fmt::join(r.edges.begin() + 1, r.edges.end(), ", "));
  fmt::print("  contrast   median {:.3g}, one edge in twenty below {:.3g}; noise {:.2g} {}\n",
             r.median_contrast, r.weakest_contrast, r.noise_sigma, unit);
  fmt::print("  expected   x {:.4f} px, y {:.4f} px, {}scale {:.6f} (one sigma of a find in this noise)\n",
             *r.expected.x, *r.expected.y,
             r.turns ? fmt::format("angle {:.4f} degrees, ", r.expected.angle->degrees()) : "",
             *r.expected.scale);
  if (r.turns == 0)
    fmt::print("  turned     it looks the same at every angle, so its angle is reported as 0\n");
  else if (r.turns > 1)
    fmt::print("  turned     it looks the same after {:g} degrees; angles are reported within {:g}..{:g}\n",
               360.0 / r.turns, -180.0 / r.turns, 180.0 / r.turns);
  if (r.turned)
    fmt::print("  turned     by {:.0f} degrees it resembles itself most, score {:.0f}\n",
               r.turned->angle.degrees(), r.turned->score);
  else if (r.turns != 0)
    fmt::print("  turned     nothing like itself at any other angle\n");
  if (r.elsewhere)
    fmt::print("  elsewhere  the next best thing in this picture scores {:.0f} at ({:.0f}, {:.0f})\n",
               r.elsewhere->score, r.elsewhere->x, r.elsewhere->y);
  else
    fmt::print("  elsewhere  nothing in this picture resembles it\n");
  for (const std::string& line : advice_of(r)) fmt::print("  advice     {}\n", line);
}

/// Keeps the edges that are stable over the further pictures; reports their share.
Target stable(const Target& target, const TeachArguments& o) {
  const auto* pattern = target.as<PatternTarget>();
  if (!pattern)
    fail_argument(
        fmt::format("teach: --also keeps the edges that are stable; a {} has none", target.info().id));
  std::vector<std::unique_ptr<PreparedPicture>> prepared_pictures;
  std::vector<const PreparedPicture*> pictures;
  for (const std::string& path : o.also) {
    prepared_pictures.push_back(std::make_unique<PreparedPicture>(prepared_from_file(target, path)));
    pictures.push_back(prepared_pictures.back().get());
  }
  StableTarget kept = keep_stable_edges(*pattern, pictures, o.stable_share);
  for (const size_t i : kept.not_found)
    log_note("teach: note: the part is not found in {}; that picture is left out", o.also[i]);
  log_note("teach: {} of {} edges are the same in {} further picture{}", kept.target.edges().size(),
           kept.edges_before, kept.used, kept.used == 1 ? "" : "s");
  return std::move(kept.target);
}

int teach(const TeachArguments& o) {
  if (o.output.empty() == o.preview.empty())
    fail_argument(
        "teach: give either --output, the target file to write, or --preview, a picture of what would "
        "be taught");
  if (!o.output.empty() && std::filesystem::path(o.output).extension() != ".png")
    fail_argument(fmt::format("{}: a target is written as .png", o.output));
  std::vector<std::string> read = o.also;
  read.insert(read.end(), o.backgrounds.begin(), o.backgrounds.end());
  read.push_back(o.picture);
  require_not_read({o.output, o.preview, o.drawing}, read);
  require_not_read({o.preview, o.drawing}, {o.output});
  Region region = parse_region(o.region, "--region");
  for (const std::string& text : o.with) region.add(parse_region(text, "--with"));
  for (const std::string& text : o.without) region.subtract(parse_region(text, "--without"));

  std::optional<LoadedTarget> before;
  const bool there = !o.output.empty() && std::filesystem::exists(o.output);
  if (there) try {
      before = load_target(o.output);
    } catch (const Error&) {
      if (!o.replace)
        fail_argument(fmt::format("{}: is there already and is no target; --replace replaces it", o.output));
    }
  const bool same_kind = before && before->target.info().id == o.kind;
  TeachOptions teaching = teach_options(o, same_kind ? &before->target : nullptr);

  Taught from{load_picture(o.picture), {}, {}};
  from.grey = taught_pixels(from.loaded, region, o, teaching);
  for (const std::string& path : o.backgrounds) from.backgrounds.push_back(grey_levels(load_picture(path)));
  Target target = teach_target(o.kind, from.view(region, o), teaching);
  if (const auto size = o.millimetres.learned_size(target, from.loaded)) {
    teaching.geometry.size_mm = *size;
    target = teach_target(o.kind, from.view(region, o), teaching);
  }
  if (const auto* pattern = target.as<PatternTarget>(); pattern && !o.options.min_contrast && !same_kind)
    target = with_fitting_contrast(*pattern);
  if (!o.also.empty()) target = stable(target, o);
  std::optional<TeachingReport> report;
  if (const auto* pattern = target.as<PatternTarget>()) {
    const PreparedPicture prepared{Image<uint8_t>(from.grey.pixels)};
    report = report_teaching(*pattern, &prepared, teaching.origin.value_or(region.bounds().centre()));
  }

  if (before) print_change(o.output, before->target, target);
  if (there && !o.replace)
    fail_argument(fmt::format(
        "{}: nothing was written; --replace replaces what is there, another --output keeps it", o.output));
  if (!o.output.empty()) save_target(o.output, target);
  for (const std::string& drawing : {o.preview, o.drawing})
    if (!drawing.empty()) save_picture(drawing, draw_target(target, report ? &*report : nullptr));
  if (o.json) {
    print_json(target, report, o.output);
  } else {
    fmt::print("{}: '{}' {}\n", o.output.empty() ? o.preview : o.output, target.name(),
               o.output.empty() ? "as it would be taught" : "taught");
    if (report)
      print_table(*target.as<PatternTarget>(), *report);
    else
      for (const auto& [name, value] : lines_of(target)) fmt::print("  {:<22} {}\n", name, value);
  }
  return 0;
}

}  // namespace

void add_teach(CLI::App& app, Action& action) {
  auto o = std::make_shared<TeachArguments>();
  CLI::App* c =
      app.add_subcommand("teach", "Teaches a part from a region of a picture and reports its quality");
  const auto add = [&](const char* group, const char* name, auto& value, const std::string& help) {
    return c->add_option(name, value, help)->group(group);
  };
  const auto several = [&](const char* group, const char* name, std::vector<std::string>& value,
                           const char* help) {
    add(group, name, value, help)->expected(1)->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  };
  c->add_option("picture", o->picture, "picture of the part")->required();
  std::string list;
  for (const KindInfo* kind : kinds())
    list += fmt::format("{}{}: {}", list.empty() ? "" : "; ", kind->id, kind->what);
  add(what_group, "--kind", o->kind, list)->capture_default_str();
  add(what_group, "--region", o->region,
      "region of the part, X,Y,WIDTH,HEIGHT in pixels; or turned:X,Y,W,H,ANGLE (about its centre), "
      "ellipse:X,Y,RX,RY[,ANGLE], ring:X,Y,INNER,OUTER, polygon:X,Y,X,Y,...")
      ->required();
  several(what_group, "--with", o->with, "adds a shape to the region; may be repeated");
  several(what_group, "--without", o->without, "cuts a shape out of the region; may be repeated");
  add(what_group, "--origin", o->origin,
      "X,Y of the part's position in the picture; default: the region's centre");
  add(what_group, "--name", o->name, "name of the part; default: the name of the output file");
  add(what_group, "--also", o->also, "more pictures of the part: keeps only edges that are the same in them");
  add(what_group, "--stable-share", o->stable_share,
      "smallest share of those pictures that must show an edge")
      ->capture_default_str();
  several(what_group, "--background", o->backgrounds, "picture without the part; may be repeated");
  several(what_group, "--not", o->counter_samples,
          "shape that must not be taken for the part; may be repeated");
  add(settings_group, "--edge-threshold", o->edge_threshold,
      "weakest edge that is taught, grey levels over two pixels; 0: chosen from the picture");
  add(settings_group, "--detail", o->detail,
      "0: every edge; 1, 2, 3: only edges that are still visible after halving the picture so often");
  o->kind_settings.add_to(*c);
  o->options.add_to(*c);
  add(where_group, "--height", o->height, "height of the part's face above the work plane, millimetres");
  add(where_group, "--grasp", o->grasp,
      "X,Y,ANGLE of the robot's grasp in the part's own frame, millimetres and degrees");
  o->millimetres.add_to(*c);
  add(output_group, "--output", o->output, "target file to write, .png");
  add(output_group, "--preview", o->preview, "draws what would be taught; writes no target");
  c->add_flag("--replace", o->replace, "replaces an existing target and keeps its settings")
      ->group(output_group);
  add(output_group, "--picture", o->drawing, "draws the taught target");
  c->add_flag("--json", o->json, "prints one JSON object")->group(output_group);
  c->footer(
      "`heron teach --kind KIND --help` shows the settings of a kind.\nExample: heron teach teach.png "
      "--region "
      "467,434,212,164 --output leaf.png\nThe target is a picture: what you erase in a paint program is no "
      "longer "
      "taught.");
  c->callback([o, &action] { action = [o] { return teach(*o); }; });
}

}  // namespace heron::tool
