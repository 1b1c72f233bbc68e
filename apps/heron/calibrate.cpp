#include "calibrate.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <filesystem>

#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/plot/calibration_plots.hpp"
#include "log.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

/// The one way of calibrating that the options speak of.
int calibrate_as_asked(const CalibrateOptions& o, const CLI::App& command) {
  struct Way {
    bool asked;
    const char* option;
    int (*run)(const CalibrateOptions&);
    std::string used;
  };
  const std::string file = " --output --replace",
                    drawn = " --picture --sigma-map --residual-plot --plot-data",
                    board = " pictures --board --columns --rows --pitch";
  const Way ways[] = {
      {o.lens, "--lens", calibrate_lens, "--lens --plane" + board + file + drawn},
      {!o.length.empty(), "--length", calibrate_length,
       "--length --distance --from --to --sigma-px --sigma-length --sigma-distance --size pictures" + file +
           drawn},
      {!o.points.empty(), "--points", calibrate_points,
       "--points --model --handed --tolerance-px --size pictures" + file + drawn},
      {!o.touched.empty(), "--touch-points", calibrate_touched, "--touch-points --tolerance-mm"},
      {!o.wrist.empty(), "--tool-center", calibrate_wrist, "--tool-center --tolerance-mm"},
      {!o.hand_eye.empty(), "--hand-eye", solve_hand_eye,
       "--hand-eye --mount --rotation --radians --lens-from --tolerance-mm" + board + file},
      {!o.anchor.empty(), "--anchor", anchor_rings, "--anchor --mark-height pictures" + file},
      {!o.transfer.empty(), "--transfer", transfer_along_marks, "--transfer --free pictures" + file},
      {!o.check.empty(), "--check", check_calibration, "--check pictures --picture"}};
  std::vector<std::string> read = o.pictures;
  for (const std::string& other : {o.points, o.touched, o.wrist, o.hand_eye, o.lens_from, o.check})
    read.push_back(other);
  require_not_read({o.output, o.picture, o.sigma_map, o.residual_plot}, read);
  for (const std::string& path : {o.sigma_map, o.residual_plot})
    if (!path.empty()) require_plot_file(path);
  if (o.plot_data && o.sigma_map.empty() && o.residual_plot.empty())
    fail_argument("calibrate: --plot-data needs --sigma-map or --residual-plot");
  const Way* chosen = nullptr;
  for (const Way& way : ways) {
    if (!way.asked) continue;
    if (chosen)
      fail_argument(fmt::format("calibrate: {} and {} are two ways of calibrating; give one", chosen->option,
                                way.option));
    chosen = &way;
  }
  if (chosen) {
    require_used(command, chosen->option, chosen->used);
    return chosen->run(o);
  }
  if (o.board.empty())
    fail_argument(
        "calibrate: say from what: --board dots|checker with pictures (and --lens for the lens), --length, "
        "--points, --touch-points, --tool-center, --hand-eye, --anchor, --transfer, or --check; "
        "`heron calibrate --help` shows examples");
  require_used(command, "--board", "--lens-from --tolerance-px" + board + file + drawn);
  return calibrate_board(o);
}

}  // namespace

std::optional<double> sigma_at_middle(const MappingRecord& r) {
  if (r.world == "flange") return std::nullopt;  // its plane is where the robot goes
  const WorldPose middle = r.mapping.world_pose({0.5 * (r.width - 1), 0.5 * (r.height - 1)}, {});
  const double sigma = std::hypot(*middle.sigma.x, *middle.sigma.y);
  return sigma > 0 ? std::optional(sigma) : std::nullopt;  // a mapping without a covariance
}

std::string sigma_text(const std::optional<double>& sigma_mm) {
  return sigma_mm ? fmt::format("{:.4f} mm", *sigma_mm) : "unknown";
}

void save_with_care(const std::string& path, MappingRecord record, bool replace) {
  if (std::filesystem::exists(path)) {
    std::optional<MappingRecord> old;
    try {
      old = load_mapping(path);
    } catch (const Error& error) {
      if (!replace)
        throw Error(ErrorCode::not_writable, ErrorPlace{path},
                    fmt::format("something stands there that is no mapping ({}); nothing was written. "
                                "--replace takes its place",
                                error.what()));
    }
    if (old) {
      if (old->axes) record.axes = old->axes;
      const std::optional<double> before = sigma_at_middle(*old), now = sigma_at_middle(record);
      if (!replace && old->world != record.world)
        throw Error(
            ErrorCode::not_writable, ErrorPlace{path},
            fmt::format("the mapping there (of {}, from {}) leads into another frame ({}) than the new "
                        "one ({}); nothing was written. --replace takes its place, another --output keeps "
                        "both",
                        old->date, old->made_from, old->world, record.world));
      if (!replace && before && !(now && *now <= 1.5 * *before + 1e-6))
        throw Error(ErrorCode::not_writable, ErrorPlace{path},
                    fmt::format("the existing mapping (of {}, from {}) has a standard uncertainty of "
                                "{} at the picture's centre, the new one {}; nothing was "
                                "written. --replace overwrites it, another --output keeps both",
                                old->date, old->made_from, sigma_text(before), sigma_text(now)));
      log_note(
          "calibrate: replaces the mapping of {} (from {}): rms {:.4f} -> {:.4f} px, sigma at "
          "the middle {} -> {}{}{}",
          old->date, old->made_from, old->rms_px, record.rms_px, sigma_text(before), sigma_text(now),
          old->axes ? "; its zero and axes are kept" : "",
          !old->anchors.empty() && record.anchors.empty()
              ? "; its ring marks lay in the old world and are dropped, --anchor measures them anew"
              : "");
    }
  }
  save_mapping(path, record);
}

void draw_what_was_asked(const CalibrateOptions& o, const MappingRecord& record) {
  if (!o.picture.empty()) {
    // The points of a lens come from many pictures; a plain ground shows them best.
    Image<uint8_t> ground(record.width, record.height);
    for (int y = 0; y < ground.height(); ++y) std::fill_n(ground.row(y), ground.width(), uint8_t{90});
    const bool one = o.pictures.size() == 1;
    save_picture(o.picture, draw_residuals(one ? grey_levels(load_picture(o.pictures[0])) : std::move(ground),
                                           record.points, record.mapping));
  }
  if (!o.sigma_map.empty())
    save_plot(o.sigma_map, sigma_plot(record.width, record.height, record.mapping, record.points),
              o.plot_data);
  if (!o.residual_plot.empty())
    save_plot(o.residual_plot, residual_plot(record.width, record.height, record.points), o.plot_data);
}

std::pair<int, int> picture_size(const CalibrateOptions& o) {
  if (!o.size.empty()) {
    const auto v = parse_numbers(o.size, 2, "--size", "WIDTH,HEIGHT in pixels, for example 1280,1024");
    if (!(v[0] >= 1 && v[1] >= 1 && v[0] <= 65535 && v[1] <= 65535))
      fail_argument(fmt::format("--size '{}': 1 to 65535 pixels a side", o.size));
    return {static_cast<int>(v[0]), static_cast<int>(v[1])};
  }
  if (o.pictures.empty())
    fail_argument("calibrate: the picture's size is needed; give a picture, or --size WIDTH,HEIGHT");
  const Picture picture = load_picture(o.pictures[0]);
  return {picture.width(), picture.height()};
}

namespace {

void add_board_options(CLI::App* c, CalibrateOptions* o) {
  const auto board = "Board";
  c->add_option("--board", o->board, "dots or checker")->group(board);
  c->add_option("--columns", o->shape.columns, "number of dots, or inner corners, along X")
      ->capture_default_str()
      ->group(board);
  c->add_option("--rows", o->shape.rows, "number of dots, or inner corners, along Y")
      ->capture_default_str()
      ->group(board);
  c->add_option("--pitch", o->shape.pitch_mm, "distance between neighbours, millimetres")
      ->capture_default_str()
      ->group(board);
  c->add_flag("--lens", o->lens,
              "calibrates the lens too, from at least 3 (better 10) differently tilted views of the board")
      ->group(board);
  c->add_option("--plane", o->plane,
                "with --lens: the picture that shows the board on the work plane; default: the first")
      ->group(board);
  c->add_option(
       "--lens-from", o->lens_from,
       "takes the lens from this mapping; one picture of the board then gives positions at every height")
      ->group(board);
}

void add_known_options(CLI::App* c, CalibrateOptions* o) {
  const auto known = "Known lengths and points";
  c->add_option("--length", o->length,
                "real length between --from and --to, for example 100mm or 4in; gives millimetres per pixel")
      ->group(known);
  c->add_option("--distance", o->distance,
                "distance of that length along the camera's axis; gives the focal length too")
      ->group(known);
  c->add_option("--from", o->from, "U,V of one end")->group(known);
  c->add_option("--to", o->to, "U,V of the other end")->group(known);
  c->add_option("--sigma-px", o->sigma_px, "standard uncertainty of the ends, pixels")
      ->capture_default_str()
      ->group(known);
  c->add_option("--sigma-length", o->sigma_length, "standard uncertainty of the length")->group(known);
  c->add_option("--sigma-distance", o->sigma_distance, "standard uncertainty of the distance")->group(known);
  c->add_option("--points", o->points,
                "CSV file with columns u,v,x,y: pixels and their machine coordinates, millimetres")
      ->group(known);
  c->add_option("--model", o->model,
                "similarity, affine or homography; default: chosen by the number of points")
      ->group(known);
  c->add_option("--handed", o->handed,
                "right or left: handedness of X, Y and the direction towards the camera; needed for two "
                "points, or points on one line")
      ->group(known);
  c->add_option("--tolerance-px", o->tolerance_px,
                "largest accepted scatter of the points (1 sigma), pixels; beyond it nothing is written and "
                "the outlier is named")
      ->capture_default_str()
      ->group(known);
}

void add_robot_options(CLI::App* c, CalibrateOptions* o) {
  const auto robot = "Robot";
  c->add_option(
       "--touch-points", o->touched,
       "CSV file with columns board_x,board_y,robot_x,robot_y; prints robot_from_board for the station file")
      ->group(robot);
  c->add_option("--tool-center", o->wrist,
                "CSV file with columns angle,x,y: one part in the gripper seen at several wrist angles; "
                "prints the centre of rotation")
      ->group(robot);
  c->add_option(
       "--tolerance-mm", o->tolerance_mm,
       "largest accepted deviation of one row, millimetres; for --touch-points, --tool-center and --hand-eye")
      ->capture_default_str()
      ->group(robot);
  c->add_option("--hand-eye", o->hand_eye,
                "CSV file with x,y,z and rotation of the flange, one row for each picture, in their order")
      ->group(robot);
  c->add_option("--mount", o->mount, "arm: the robot carries the camera; fixed: it carries the board")
      ->capture_default_str()
      ->group(robot);
  c->add_option("--rotation", o->rotation,
                "quaternion-wxyz, quaternion-xyzw, rotation-vector, or the order of Euler angles about "
                "moving axes, as zyx")
      ->group(robot);
  c->add_flag("--radians", o->radians, "angles in the CSV file are radians")->group(robot);
}

void add_mapping_options(CLI::App* c, CalibrateOptions* o) {
  const auto old = "Existing mapping";
  c->add_option("--check", o->check, "tests this mapping against a new picture of its board or ring marks")
      ->group(old);
  c->add_option("--anchor", o->anchor,
                "measures ring marks on the table with this mapping and stores them in --output")
      ->group(old);
  c->add_option("--mark-height", o->mark_height,
                "with --anchor: height of the marks above the plane, millimetres")
      ->group(old);
  c->add_option(
       "--transfer", o->transfer,
       "transfers this mapping by its ring marks after the table or the camera was moved along the plane")
      ->group(old);
  c->add_flag("--free", o->free_motion,
              "with --transfer: accepts any motion; needs the lens and preferably three or more marks")
      ->group(old);
}

}  // namespace

void add_calibrate(CLI::App& app, Action& action) {
  auto o = std::make_shared<CalibrateOptions>();
  CLI::App* c = app.add_subcommand("calibrate",
                                   "Calibrates the pixel-to-world mapping: from a board, several views, one "
                                   "length, known points or robot poses");
  c->add_option("pictures", o->pictures, "pictures, usually of a board");
  c->add_option("--output", o->output, "mapping file to write");
  c->add_flag("--replace", o->replace, "overwrites a mapping with a smaller standard uncertainty");
  c->add_option("--picture", o->picture, "draws the residuals");
  c->add_option("--sigma-map", o->sigma_map,
                "draws the standard uncertainty over the picture; .png, .svg or .pdf");
  c->add_option("--residual-plot", o->residual_plot,
                "draws the statistics of the residuals; .png, .svg or .pdf");
  c->add_flag("--plot-data", o->plot_data, "writes the numbers of each plot beside it, as FILE.csv");
  c->add_flag("--json", o->json, "prints one JSON object instead of a table");
  c->add_option("--size", o->size, "WIDTH,HEIGHT of the pictures, when no picture is given");
  add_board_options(c, o.get());
  add_known_options(c, o.get());
  add_robot_options(c, o.get());
  add_mapping_options(c, o.get());
  c->footer(
      "Example: heron calibrate --board dots --columns 13 --rows 11 --pitch 18 board.png --output "
      "mapping.toml\n"
      "         heron calibrate --lens --board checker --columns 11 --rows 8 --pitch 15 view-*.png --output "
      "lens.toml\n"
      "         heron calibrate --lens-from lens.toml --board dots --columns 13 --rows 11 --pitch 18 "
      "board.png --output mapping.toml\n"
      "         heron calibrate --length 80mm --from 312,500 --to 921,503 picture.png --output "
      "mapping.toml\n"
      "         heron calibrate --points pairs.csv picture.png --output mapping.toml\n"
      "         heron calibrate --hand-eye poses.csv --mount arm --rotation zyx --board checker --columns "
      "11 --rows 8 --pitch 15 stop-*.png --output hand-eye.toml\n"
      "         heron calibrate --check mapping.toml board-today.png\n"
      "         heron calibrate --anchor mapping.toml marks.png --output anchored.toml\n"
      "         heron calibrate --transfer anchored.toml moved.png --output mapping.toml\n"
      "Exit status 1 when a board is not seen, or a check finds that the mapping no longer holds.");
  c->callback([o, c, &action] { action = [o, c] { return calibrate_as_asked(*o, *c); }; });
}

}  // namespace heron::tool
