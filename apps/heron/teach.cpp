#include <fmt/format.h>

#include <cmath>
#include <filesystem>

#include "commands.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "options.hpp"

namespace heron::tool {

void add_teach(CLI::App& app, Action& action) {
  struct TeachOptions {
    std::string picture, region, origin, output, name, drawing, angle = "any", scale = "1", grasp;
    std::vector<std::string> without;
    TeachPattern settings;
  };
  auto o = std::make_shared<TeachOptions>();
  CLI::App* c = app.add_subcommand("teach", "Teaches a part from a region of a picture");
  c->add_option("picture", o->picture, "picture of the part")->required();
  c->add_option("--region", o->region, "X,Y,WIDTH,HEIGHT: smallest corner and extent, picture coordinates")
      ->required();
  c->add_option("--without", o->without, "X,Y,WIDTH,HEIGHT cut out of the region; may be given several times")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  c->add_option("--origin", o->origin, "X,Y of the part's position; the region's centre unless given");
  c->add_option("--name", o->name, "the part's name; the output's unless given");
  c->add_option("--strength", o->settings.least_strength,
                "grey levels over two pixels from which on an edge is taught; 0 chooses")
      ->capture_default_str();
  c->add_option("--angle", o->angle, "angles to find it at: -30..30, 30 (both sides) or any")
      ->capture_default_str();
  c->add_option("--scale", o->scale, "scales to find it at: MIN..MAX, or one number")->capture_default_str();
  c->add_option("--least-score", o->settings.limits.least_score, "0 to 100")->capture_default_str();
  c->add_option("--least-contrast", o->settings.limits.least_contrast,
                "grey levels over two pixels, 1 to 255")
      ->capture_default_str();
  c->add_option("--height", o->settings.place.height_mm,
                "millimetres that the part's face stands above the work plane")
      ->capture_default_str();
  c->add_option(
      "--grasp", o->grasp,
      "X,Y,ANGLE: where a robot takes it, in millimetres and degrees from its origin, in its own frame");
  c->add_option("--output", o->output, "the target file to write, .png")->required();
  c->add_option("--picture", o->drawing, "draws the taught edges");
  c->footer(
      "Example: heron teach teach.png --region 534,430,212,164 --output leaf.png\nThe target is a picture: "
      "erase clutter in any paint program, and it is no longer taught.");
  c->callback([o, &action] {
    action = [o] {
      Region region = Region::rectangle(parse_box(o->region, "--region"));
      for (const std::string& text : o->without)
        region.subtract(Region::rectangle(parse_box(text, "--without")));
      TeachPattern& s = o->settings;
      if (!o->origin.empty()) s.origin = parse_point(o->origin, "--origin");
      s.name = o->name.empty() ? std::filesystem::path(o->output).stem().string() : o->name;
      s.limits.angle = parse_angle_range(o->angle);
      s.limits.scale = parse_range(o->scale, "--scale");
      if (!std::isfinite(s.place.height_mm))
        fail_argument("teach: --height must be a finite number of millimetres");
      if (!o->grasp.empty()) {
        const auto grasp = parse_numbers(o->grasp, 3, "--grasp",
                                         "X,Y,ANGLE in millimetres and degrees, for example 12,0,90");
        s.place.grasp = {grasp[0], grasp[1], degrees(grasp[2])};
      }
      if (std::filesystem::path(o->output).extension() != ".png")
        fail_argument(fmt::format("{}: a target is written as .png", o->output));
      const PatternTarget target = teach_pattern(grey_levels(load_picture(o->picture)), region, s);
      save_target(o->output, target);
      if (!o->drawing.empty()) save_picture(o->drawing, draw_target(target));
      fmt::print(
          "{}: '{}' taught, {} edges of at least {:.0f} grey levels on {} levels{}\n", o->output,
          target.name(), target.levels()[0].size(), target.strength(), target.levels().size(),
          target.has_angle() ? "" : "; it looks the same at every angle, so its angle is reported as 0");
      return 0;
    };
  });
}

}  // namespace heron::tool
