#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "calibrate.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/hand_eye.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "log.hpp"
#include "options.hpp"
#include "progress.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

RotationForm form_of(const CalibrateOptions& o) {
  if (o.rotation.empty())
    fail_argument(
        "calibrate: --rotation says how the robot writes rotations: quaternion-wxyz, quaternion-xyzw, "
        "rotation-vector, or the order of its Euler angles, as zyx");
  if (const auto form = rotation_form(o.rotation)) return *form;
  std::string names;
  for (const RotationForm f : all_rotation_forms()) names += (names.empty() ? "" : ", ") + name_of(f);
  fail_argument(
      fmt::format("--rotation '{}': it is one of {} (Euler angles about moving axes; about fixed axes the "
                  "order is read backwards)",
                  o.rotation, names));
}

std::vector<RobotPoseRow> rows_of(const std::string& path, RotationForm form) {
  std::vector<RobotPoseRow> rows;
  std::vector<std::string> columns{"x", "y", "z"};
  for (const std::string& name : columns_of(form)) columns.push_back(name);
  for (const auto& r : load_csv(path, columns))
    rows.push_back({{r[0], r[1], r[2]}, {r.begin() + 3, r.end()}});
  return rows;
}

/// Lens from --lens-from, or from the pictures themselves.
CameraMapping lens_for(const CalibrateOptions& o, const std::vector<BoardView>& views,
                       const BoardShape& shape, int width, int height) {
  if (o.lens_from.empty()) return heron::calibrate_lens(views, shape, width, height).mapping;
  const MappingRecord lens = load_mapping(o.lens_from);
  if (!lens.mapping.camera())
    fail_argument(o.lens_from + ": is a mapping of a plane alone and holds no lens; make one with --lens");
  if (lens.width != width || lens.height != height)
    fail_argument(fmt::format("{}: was made with {} x {} pixels, the pictures have {} x {}", o.lens_from,
                              lens.width, lens.height, width, height));
  return *lens.mapping.camera();
}

/// camera_from_carrier and the covariance of turn and shift in the camera's axes.
CameraMapping mapping_of(const HandEyeCalibration& c, const CameraMapping& lens) {
  const Eigen::Matrix3d back = -c.carrier_from_camera.rotation.conjugate().toRotationMatrix();
  Eigen::Matrix<double, 6, 6> turn = Eigen::Matrix<double, 6, 6>::Zero();
  turn.topLeftCorner<3, 3>() = back, turn.bottomRightCorner<3, 3>() = back;
  CameraMapping::Covariance covariance = CameraMapping::Covariance::Zero();
  covariance.topLeftCorner<9, 9>() = lens.covariance().topLeftCorner<9, 9>();
  covariance.bottomRightCorner<6, 6>() = turn * c.covariance.topLeftCorner<6, 6>() * turn.transpose();
  return CameraMapping({lens.camera().lens, c.carrier_from_camera.inverse()}, covariance);
}

Json json_of(const Pose3& p) {
  const Eigen::Quaterniond& q = p.rotation;
  return {{"position_mm", {p.position.x(), p.position.y(), p.position.z()}},
          {"quaternion", {q.w(), q.x(), q.y(), q.z()}}};
}

std::string words_of(const Pose3& p) {
  const Eigen::Quaterniond& q = p.rotation;
  return fmt::format("{:.4f} {:.4f} {:.4f} mm, quaternion {:.6f} {:.6f} {:.6f} {:.6f} (w x y z)",
                     p.position.x(), p.position.y(), p.position.z(), q.w(), q.x(), q.y(), q.z());
}

void print_stops(const std::vector<HandEyeSample>& stops, const HandEyeCalibration& c) {
  fmt::print("{:<24} {:>9} {:>9}\n", "stop", "off mm", "off deg");
  for (size_t i = 0; i < stops.size(); ++i)
    fmt::print("{:<24} {:>9.4f} {:>9.4f}{}\n", stops[i].name, c.stops[i].off_mm,
               c.stops[i].off_angle.degrees(),
               c.stops[i].used ? "" : "  LEFT OUT: it fits far worse than the others");
}

}  // namespace

int calibrate_touched(const CalibrateOptions& o) {
  const auto [board, robot] = touched_points(o.touched);
  const RigidFit fit = fit_rigid(board, robot);
  const Pose2& p = fit.target_from_source;
  const auto worst = std::max_element(fit.residuals_mm.begin(), fit.residuals_mm.end());
  const bool fits = *worst <= o.tolerance_mm;
  const std::optional<size_t> wrong = fits ? std::nullopt : pair_off(board, robot, o.tolerance_mm);
  const size_t named = wrong.value_or(static_cast<size_t>(worst - fit.residuals_mm.begin()));
  if (o.json) {
    const Json j{
        {"kind", "touched"},
        {"fits", fits},
        {"wrong", fits ? Json(nullptr) : Json{{"pair", named + 1}, {"others_fit", wrong.has_value()}}},
        {"points", fit.residuals_mm.size()},
        {"robot_from_board", {p.x, p.y, p.angle.degrees()}},
        {"rms_mm", fit.rms_mm},
        {"residuals_mm", fit.residuals_mm},
        {"sigma", {{"x", fit.sigma_mm}, {"y", fit.sigma_mm}, {"angle", fit.sigma_angle.degrees()}}}};
    fmt::print("{}\n", j.dump());
    return fits ? 0 : 1;
  }
  if (!fits) {
    log_error(
        "calibrate: the touched points do not fit to {:g} mm (--tolerance-mm): pair {} (board {:g}, "
        "{:g}; robot {:g}, {:g}) {}",
        o.tolerance_mm, named + 1, board[named].x, board[named].y, robot[named].x, robot[named].y,
        wrong ? "is off; the others fit without it. Touch it again, or leave it out"
              : fmt::format("is {:.2f} mm off, the farthest; with one pair more a single wrong one could be "
                            "named",
                            *worst));
    return 1;
  }
  fmt::print(
      "# {} touched points, rms {:.4f} mm; sigma {:.4f} mm and {:.5f} degrees. For the station "
      "file:\n[frame]\nmount = \"fixed\"\nrobot_from_board = [{:.5f}, {:.5f}, {:.6f}]\n",
      fit.residuals_mm.size(), fit.rms_mm, fit.sigma_mm, fit.sigma_angle.degrees(), p.x, p.y,
      p.angle.degrees());
  return 0;
}

int calibrate_wrist(const CalibrateOptions& o) {
  std::vector<Angle> angles;
  std::vector<Point2> seen;
  for (const auto& row : load_csv(o.wrist, {"angle", "x", "y"}))
    angles.push_back(degrees(row[0])), seen.push_back({row[1], row[2]});
  const TurningCentre c = find_turning_centre(angles, seen);
  double worst = 0;
  size_t named = 0;
  for (size_t i = 0; i < seen.size(); ++i) {
    const Angle turned = c.turns_backwards ? -angles[i] : angles[i];
    const double off = distance(c.centre_mm + rotated(c.part_mm, turned), seen[i]);
    if (off > worst) worst = off, named = i;
  }
  const bool fits = worst <= o.tolerance_mm;
  if (!fits)
    log_error(
        "calibrate: the wrist's rows do not fit to {:g} mm (--tolerance-mm): row {} (angle {:g}) lies "
        "{:.2f} mm off the circle",
        o.tolerance_mm, named + 1, angles[named].degrees(), worst);
  if (o.json) {
    const Json j{{"kind", "wrist"},
                 {"fits", fits},
                 {"angles", angles.size()},
                 {"centre_mm", {c.centre_mm.x, c.centre_mm.y}},
                 {"part_mm", {c.part_mm.x, c.part_mm.y}},
                 {"turns_backwards", c.turns_backwards},
                 {"rms_mm", c.rms_mm},
                 {"sigma", {{"x", c.sigma_mm}, {"y", c.sigma_mm}}}};
    fmt::print("{}\n", j.dump());
    return fits ? 0 : 1;
  }
  if (!fits) return 1;
  fmt::print(
      "centre      {:.4f} {:.4f} mm \u00b1 {:.4f} mm, of the wrist, in the frame the part was seen in\npart  "
      "      {:.4f} {:.4f} mm beside it at wrist angle 0\nresidual    rms {:.4f} mm over {} angles\n",
      c.centre_mm.x, c.centre_mm.y, c.sigma_mm, c.part_mm.x, c.part_mm.y, c.rms_mm, angles.size());
  if (c.turns_backwards) fmt::print("note        the wrist's angle grows the other way than the frame's\n");
  return 0;
}

namespace {

/// What the pictures and the robot's poses give for a hand-eye calibration.
struct HandEyeInput {
  BoardShape shape;
  CameraMount mount = CameraMount::arm;
  RotationForm form = RotationForm::zyx;
  std::vector<BoardView> views;
  std::vector<RobotPoseRow> rows;  // of the views
  std::vector<HandEyeSample> stops;
  int width = 0, height = 0;
  std::optional<CameraMapping> lens;
};

/// Nothing when no picture shows the board, which is said by then.
std::optional<HandEyeInput> read_hand_eye(const CalibrateOptions& o) {
  if (o.board.empty()) fail_argument("calibrate: --hand-eye needs --board with its columns, rows and pitch");
  HandEyeInput in;
  in.shape = o.shape;
  in.shape.kind = parse_board_kind(o.board);
  if (o.mount != "arm" && o.mount != "fixed")
    fail_argument(fmt::format(
        "--mount '{}': it is arm (the robot carries the camera) or fixed (it carries the board)", o.mount));
  in.mount = o.mount == "arm" ? CameraMount::arm : CameraMount::fixed;
  in.form = form_of(o);
  const std::vector<RobotPoseRow> rows = rows_of(o.hand_eye, in.form);
  if (rows.size() != o.pictures.size())
    fail_argument(fmt::format(
        "calibrate: {} holds {} poses, {} pictures were given; a row belongs to each, in their order",
        o.hand_eye, rows.size(), o.pictures.size()));
  Progress progress(rows.size(), "views");
  for (size_t i = 0; i < rows.size(); ++i) {
    progress.step();
    if (auto view = view_of(o.pictures[i], in.shape, in.width, in.height, nullptr))
      in.views.push_back(std::move(*view)), in.rows.push_back(rows[i]);
  }
  if (in.views.empty()) return std::nullopt;
  in.lens = lens_for(o, in.views, in.shape, in.width, in.height);
  for (size_t i = 0; i < in.views.size(); ++i) {
    const auto pose = pose_of(in.rows[i], {in.form, !o.radians});
    if (!pose)
      fail_argument(fmt::format("{}: row {} holds no {}: its numbers have not length 1", o.hand_eye, i + 1,
                                name_of(in.form)));
    const PoseCalibration p = calibrate_pose(in.views[i], in.shape, CameraMapping(in.lens->camera()));
    in.stops.push_back({in.views[i].name, *pose, p.mapping.camera().camera_from_world,
                        p.mapping.covariance().bottomRightCorner<6, 6>()});
  }
  return in;
}

/// Nothing when the robot's poses do not fit the pictures, with the reason on standard error.
std::optional<HandEyeCalibration> fitting_hand_eye(const HandEyeInput& in, const CalibrateOptions& o) {
  HandEyeCalibration c;
  std::optional<std::string> failure;
  try {
    c = heron::solve_hand_eye(in.stops, in.mount);
  } catch (const Error& error) {
    if (error.code() != ErrorCode::not_determined) throw;
    failure = error.what();  // poses read in a wrong way often look like no motion
  }
  const RobotPoseReading reading{in.form, !o.radians};
  const bool fits = !failure && c.rms_angle < degrees(0.5) && c.rms_mm < o.tolerance_mm;
  const bool all_used = std::all_of(c.stops.begin(), c.stops.end(), [](const StopFit& s) { return s.used; });
  std::optional<std::string> why;
  if (!fits || !all_used) {
    const Point2 middle{0.5 * (in.shape.columns - 1) * in.shape.pitch_mm,
                        0.5 * (in.shape.rows - 1) * in.shape.pitch_mm};
    why = explain_misfit(in.rows, in.stops, reading, in.mount, middle);
  }
  if (fits && !why) return c;
  if (failure && !why) throw Error(ErrorCode::not_determined, *failure);
  log_error(
      "calibrate: read as {} with --mount {}, the robot's poses do not fit the pictures ({}); "
      "nothing was written. {}",
      words_of(reading), o.mount,
      failure ? "no motion that determines anything"
              : fmt::format("rms {:.2f} mm, {:.2f} degrees", c.rms_mm, c.rms_angle.degrees()),
      why ? fmt::format("They do as {}", *why)
          : "Does row and picture belong together, and does the board lie still?");
  if (!failure) print_stops(in.stops, c);
  return std::nullopt;
}

void print_hand_eye(const HandEyeInput& in, const HandEyeCalibration& c, const CalibrateOptions& o) {
  const Eigen::Matrix<double, 12, 1> s = c.covariance.diagonal().cwiseMax(0).cwiseSqrt();
  const bool on_arm = in.mount == CameraMount::arm;
  const char *first = on_arm ? "flange_from_camera" : "robot_from_camera",
             *second = on_arm ? "robot_from_board" : "flange_from_board";
  const double to_degrees = radians(1).degrees();
  if (o.json) {
    Json list = Json::array();
    for (size_t i = 0; i < in.stops.size(); ++i)
      list.push_back({{"picture", in.stops[i].name},
                      {"off_mm", c.stops[i].off_mm},
                      {"off_angle", c.stops[i].off_angle.degrees()},
                      {"used", c.stops[i].used}});
    const Json j{{"kind", "hand-eye"},
                 {"mount", o.mount},
                 {first, json_of(c.carrier_from_camera)},
                 {second, json_of(c.other_from_board)},
                 {"rms_mm", c.rms_mm},
                 {"rms_angle", c.rms_angle.degrees()},
                 {"robot_sigma_mm", c.robot_sigma_mm},
                 {"robot_sigma_angle", c.robot_sigma_angle.degrees()},
                 {"sigma",
                  {{"position_mm", {s[3], s[4], s[5]}},
                   {"angle", {s[0] * to_degrees, s[1] * to_degrees, s[2] * to_degrees}}}},
                 {"stops", list}};
    fmt::print("{}\n", j.dump());
    return;
  }
  print_stops(in.stops, c);
  fmt::print("\n{}  {}\n{}  {}\n", first, words_of(c.carrier_from_camera), second,
             words_of(c.other_from_board));
  fmt::print("sigma       {:.4f} {:.4f} {:.4f} mm, {:.4f} {:.4f} {:.4f} degrees, of the camera's place\n",
             s[3], s[4], s[5], s[0] * to_degrees, s[1] * to_degrees, s[2] * to_degrees);
  fmt::print("robot       scatters by {:.4f} mm and {:.4f} degrees an axis\n", c.robot_sigma_mm,
             c.robot_sigma_angle.degrees());
  if (!o.output.empty())
    fmt::print("written     {}: its world is the robot's {}\n", o.output,
               on_arm ? "flange; heron map asks for --flange" : "base");
}

}  // namespace

int solve_hand_eye(const CalibrateOptions& o) {
  const auto in = read_hand_eye(o);
  if (!in) return 1;
  const auto c = fitting_hand_eye(*in, o);
  if (!c) return 1;
  MappingRecord r;
  r.mapping = mapping_of(*c, *in->lens);
  r.made_from = "hand-eye", r.world = in->mount == CameraMount::arm ? "flange" : "robot";
  r.board = in->shape, r.width = in->width, r.height = in->height, r.date = now_text();
  for (const BoardView& v : in->views) r.pictures.push_back(v.name);
  if (!o.output.empty()) save_with_care(o.output, r, o.replace);
  print_hand_eye(*in, *c, o);
  return 0;
}

}  // namespace heron::tool
