#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "heron/calibrate/plane.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/geometry/rigid_fit.hpp"
#include "options.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct CalibrateOptions {
  std::string board, output, picture, touched;
  std::vector<std::string> pictures;
  BoardShape shape;
  bool json = false;
};

void print_mapping(const MappingRecord& r, const BoardSummary& seen, bool json) {
  const PlaneCalibration& c = r.calibration;
  const Point2 centre{0.5 * (r.width - 1), 0.5 * (r.height - 1)};
  const WorldPose middle = c.mapping.world_pose(centre, {});
  if (json) {
    Json matrix = Json::array();
    for (int i = 0; i < 3; ++i)
      matrix.push_back({c.mapping.matrix()(i, 0), c.mapping.matrix()(i, 1), c.mapping.matrix()(i, 2)});
    const Json j{{"kind", "plane"},
                 {"points", c.points.size()},
                 {"marked", seen.marked},
                 {"rms_px", c.rms_px},
                 {"sigma_px", c.sigma_px},
                 {"largest_mm", c.largest_mm},
                 {"distortion_px", c.distortion_px},
                 {"mm_per_pixel", c.mapping.mm_per_pixel(centre)},
                 {"sigma_mm", {{"x", middle.sigma.x}, {"y", middle.sigma.y}}},
                 {"pixel_from_world", matrix}};
    fmt::print("{}\n", j.dump());
    return;
  }
  fmt::print("points      {} of {}{}\n", c.points.size(),
             r.pictures.size() * static_cast<size_t>(r.board.columns * r.board.rows),
             seen.marked ? ", origin from the board's mark"
                         : ", no mark: origin is the corner nearest the bottom left");
  fmt::print("residual    rms {:.4f} px, largest {:.4f} mm\n", c.rms_px, c.largest_mm);
  fmt::print("scale       {:.5f} mm per pixel at the centre\n", c.mapping.mm_per_pixel(centre));
  fmt::print("sigma       x {:.4f} mm, y {:.4f} mm at the centre\n", middle.sigma.x, middle.sigma.y);
  if (c.distortion_px > 0.2)
    fmt::print(
        "note        residuals grow towards the corners by {:.2f} px: the lens bends straight lines, and a "
        "plane mapping cannot hold that\n",
        c.distortion_px);
}

int calibrate_board(const CalibrateOptions& o) {
  if (o.pictures.empty())
    fail_argument("calibrate: no picture given; take one of the board lying on the work plane");
  if (o.output.empty()) fail_argument("calibrate: --output MAPPING.toml is missing");
  BoardShape shape = o.shape;
  shape.kind = parse_board_kind(o.board);
  BoardSummary seen;
  const std::optional<MappingRecord> record = mapping_from_pictures(o.pictures, shape, seen);
  if (!record) return 1;
  save_mapping(o.output, *record);
  print_mapping(*record, seen, o.json);
  if (!o.picture.empty())
    save_picture(o.picture, draw_residuals(grey_levels(load_picture(o.pictures[0])), record->calibration));
  if (!o.json) fmt::print("written     {}\n", o.output);
  return 0;
}

int calibrate_touched(const CalibrateOptions& o) {
  const RigidFit fit = frame_from_touched(o.touched);
  const Pose2& p = fit.target_from_source;
  if (o.json) {
    const Json j{{"kind", "touched"},
                 {"points", fit.residuals_mm.size()},
                 {"robot_from_board", {p.x, p.y, p.angle.degrees()}},
                 {"rms_mm", fit.rms_mm},
                 {"residuals_mm", fit.residuals_mm},
                 {"sigma", {{"x", fit.sigma_mm}, {"y", fit.sigma_mm}, {"angle", fit.sigma_angle.degrees()}}}};
    fmt::print("{}\n", j.dump());
    return 0;
  }
  fmt::print(
      "# {} touched points, rms {:.4f} mm; sigma {:.4f} mm and {:.5f} degrees. For the station "
      "file:\n[frame]\nmount = \"fixed\"\nrobot_from_board = [{:.5f}, {:.5f}, {:.6f}]\n",
      fit.residuals_mm.size(), fit.rms_mm, fit.sigma_mm, fit.sigma_angle.degrees(), p.x, p.y,
      p.angle.degrees());
  return 0;
}

}  // namespace

void add_calibrate(CLI::App& app, Action& action) {
  auto o = std::make_shared<CalibrateOptions>();
  CLI::App* c = app.add_subcommand(
      "calibrate",
      "Maps pixels to millimetres from pictures of a board, or finds the robot's frame from touched points");
  c->add_option("pictures", o->pictures, "pictures of the board lying still on the work plane");
  c->add_option("--board", o->board, "dots or checker");
  c->add_option("--columns", o->shape.columns, "dots, or inner corners, along X")->capture_default_str();
  c->add_option("--rows", o->shape.rows, "dots, or inner corners, along Y")->capture_default_str();
  c->add_option("--pitch", o->shape.pitch_mm, "millimetres from one to the next")->capture_default_str();
  c->add_option("--output", o->output, "the mapping file to write");
  c->add_option("--picture", o->picture, "draws the residuals on the first picture");
  c->add_option("--touched", o->touched,
                "CSV of board_x,board_y,robot_x,robot_y: gives robot_from_board for the station file");
  c->add_flag("--json", o->json, "one JSON object instead of a table");
  c->footer(
      "Example: heron calibrate --board dots --columns 13 --rows 11 --pitch 18 board.png --output "
      "mapping.toml\n         heron calibrate --touched touched.csv");
  c->callback([o, &action] {
    action = [o] {
      if (o->board.empty() == o->touched.empty())
        fail_argument("calibrate: give either --board dots|checker with pictures, or --touched FILE.csv");
      return o->touched.empty() ? calibrate_board(*o) : calibrate_touched(*o);
    };
  });
}

}  // namespace heron::tool
