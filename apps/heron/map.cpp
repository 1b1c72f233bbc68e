#include <fmt/format.h>

#include "commands.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/report_json.hpp"
#include "options.hpp"

namespace heron::tool {

void add_map(CLI::App& app, Action& action) {
  struct MapOptions {
    std::string mapping;
    std::vector<std::string> pixels;
    double angle = 0;
    bool json = false;
  };
  auto o = std::make_shared<MapOptions>();
  CLI::App* c = app.add_subcommand("map", "Says where a pixel is on the work plane");
  c->add_option("mapping", o->mapping, "mapping file")->required();
  c->add_option("--pixel", o->pixels, "U,V in picture coordinates; may be given several times")
      ->required()
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  c->add_option("--angle", o->angle, "picture angle in degrees, from +x towards +y (clockwise as seen)");
  c->add_flag("--json", o->json, "one JSON object a pixel");
  c->footer(
      "Example: heron map mapping.toml --pixel 640,512 --angle 30\nThe world's angle grows from +X towards "
      "+Y, the other way round as seen.");
  c->callback([o, &action] {
    action = [o] {
      if (!std::isfinite(o->angle)) fail_argument("map: --angle must be a finite number of degrees");
      const MappingRecord record = load_mapping(o->mapping);
      for (const std::string& text : o->pixels) {
        const Point2 pixel = parse_point(text, "--pixel");
        const WorldPose p = record.calibration.mapping.world_pose(pixel, degrees(o->angle));
        const bool outside =
            pixel.x < -0.5 || pixel.y < -0.5 || pixel.x > record.width - 0.5 || pixel.y > record.height - 0.5;
        if (outside)
          fmt::print(stderr,
                     "heron: map: note: ({:g}, {:g}) lies outside the {} x {} picture that the mapping was "
                     "made with\n",
                     pixel.x, pixel.y, record.width, record.height);
        if (o->json)
          fmt::print("{}\n", world_json(p));
        else
          fmt::print("X {:.4f} mm  Y {:.4f} mm  angle {:.4f} deg   sigma {:.4f} mm {:.4f} mm {:.4f} deg\n",
                     p.x_mm, p.y_mm, p.angle.degrees(), p.sigma.x, p.sigma.y, p.sigma.angle.degrees());
      }
      return 0;
    };
  });
}

}  // namespace heron::tool
