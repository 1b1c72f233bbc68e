#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/hand_eye.hpp"
#include "heron/calibrate/rectify.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "log.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct MapOptions {
  std::string mapping, flange, rotation, from, to, width, axes, rectify, window, output;
  std::vector<std::string> pixels;
  double angle = 0, height = 0, sigma_px = 0;
  bool radians = false, towards = false, set_zero = false, undistort = false, json = false;
};

/// The mapping as it serves this question: one whose world is the flange becomes one of the robot's base.
MappingRecord mapping_for(const MapOptions& o) {
  MappingRecord r = load_mapping(o.mapping);
  if (r.world != "flange") {
    if (!o.flange.empty())
      fail_argument(fmt::format("map: --flange is for a camera on the arm; the world of {} is the {}",
                                o.mapping, r.world));
    return r;
  }
  if (o.flange.empty() || o.rotation.empty())
    fail_argument(
        fmt::format("map: the camera of {} moves with the flange; --flange X,Y,Z,ROTATION and --rotation "
                    "FORM say where that was",
                    o.mapping));
  const auto form = rotation_form(o.rotation);
  if (!form)
    fail_argument(
        fmt::format("--rotation '{}': it is quaternion-wxyz, quaternion-xyzw, rotation-vector, or an order "
                    "of Euler angles, as zyx",
                    o.rotation));
  const auto v = parse_numbers(o.flange, 3 + numbers_in(*form), "--flange",
                               "X,Y,Z in millimetres and the rotation's numbers");
  const auto flange = pose_of({{v[0], v[1], v[2]}, {v.begin() + 3, v.end()}}, {*form, !o.radians});
  if (!flange) fail_argument(fmt::format("--flange '{}': its rotation is no {}", o.flange, name_of(*form)));
  const CameraMapping& camera = *r.mapping.camera();
  const Pose3 camera_from_base = camera.camera().camera_from_world * flange->inverse();
  r.mapping = CameraMapping({camera.camera().lens, camera_from_base}, camera.covariance());
  return r;
}

const CameraMapping& camera_of(const MappingRecord& r, const std::string& path, const char* for_what) {
  if (!r.mapping.camera())
    fail_argument(
        fmt::format("{}: is a mapping of a plane alone; {} needs a camera: `heron calibrate --lens`, or "
                    "--length with --distance",
                    path, for_what));
  return *r.mapping.camera();
}

int map_pixels(const MapOptions& o) {
  const MappingRecord record = mapping_for(o);
  for (const std::string& text : o.pixels) {
    const Point2 pixel = parse_point(text, "--pixel");
    const PoseSigma seen{o.sigma_px, o.sigma_px, Angle{}, 0};
    const UserPose p = user_pose(record.mapping.world_pose(pixel, degrees(o.angle), seen, o.height),
                                 record.axes ? &*record.axes : nullptr);
    if (pixel.x < -0.5 || pixel.y < -0.5 || pixel.x > record.width - 0.5 || pixel.y > record.height - 0.5)
      log_note("map: note: ({:g}, {:g}) lies outside the {} x {} picture that the mapping was made with",
               pixel.x, pixel.y, record.width, record.height);
    if (o.json)
      fmt::print("{}\n", world_json(p));
    else
      fmt::print("X {:.4f} mm  Y {:.4f} mm  angle {:.4f} deg   sigma {:.4f} mm {:.4f} mm {:.4f} deg\n",
                 p.x_mm, p.y_mm, p.angle.degrees(), *p.sigma.x, *p.sigma.y, p.sigma.angle->degrees());
  }
  return 0;
}

int map_width(const MapOptions& o) {
  if (o.from.empty() || o.to.empty())
    fail_argument("map: --width needs --from U,V and --to U,V, the pixels of its ends");
  const MappingRecord record = load_mapping(o.mapping);
  const WidthDistance d =
      camera_of(record, o.mapping, "a distance from an apparent width")
          .distance_of_width(parse_point(o.from, "--from"), parse_point(o.to, "--to"),
                             parse_length(o.width, "--width"),
                             o.towards ? WidthLies::across_ray : WidthLies::across_axis, o.sigma_px);
  if (o.json) {
    const Json j{{"along_axis_mm", d.along_axis_mm},
                 {"along_ray_mm", d.along_ray_mm},
                 {"bearing", d.bearing.degrees()},
                 {"elevation", d.elevation.degrees()},
                 {"sigma", {{"along_axis_mm", d.sigma_axis_mm}, {"along_ray_mm", d.sigma_ray_mm}}}};
    fmt::print("{}\n", j.dump());
  } else {
    fmt::print(
        "distance along the axis {:.3f} \u00b1 {:.3f} mm, along the ray {:.3f} \u00b1 {:.3f} mm; bearing "
        "{:.3f} deg to the right, {:.3f} deg up\n",
        d.along_axis_mm, d.sigma_axis_mm, d.along_ray_mm, d.sigma_ray_mm, d.bearing.degrees(),
        d.elevation.degrees());
  }
  return 0;
}

std::string words_of(const Axes& a) {
  return fmt::format("zero at {:.4f} {:.4f} mm, x along {}, y along {}{}", a.zero_mm.x, a.zero_mm.y,
                     name_of(a.x), name_of(a.y),
                     a.right_handed() ? "" : " (left-handed: angles grow the other way)");
}

/// Writes zero or axes into the mapping file, beside the calibration.
int set_axes(const MapOptions& o) {
  MappingRecord record = load_mapping(o.mapping);
  if (record.world == "flange")
    fail_argument("map: a camera on the arm has no zero of its own; the robot's base frame is its world");
  const Axes old = record.axes.value_or(Axes{});
  Axes axes = old;
  if (o.set_zero) {
    if (o.pixels.size() != 1) fail_argument("map: --set-zero takes one --pixel, the place that becomes zero");
    axes.zero_mm = record.mapping.world_from_pixel(parse_point(o.pixels[0], "--pixel"), o.height);
  }
  if (!o.axes.empty()) {
    const size_t comma = o.axes.find(',');
    const auto x = axis_direction(o.axes.substr(0, comma)),
               y = comma == std::string::npos ? std::nullopt : axis_direction(o.axes.substr(comma + 1));
    if (!x || !y)
      fail_argument(fmt::format(
          "--set-axes '{}': where the user's x and y point in the mapping's world, as +X,-Y or +Y,+X",
          o.axes));
    axes.x = *x, axes.y = *y;
  }
  axes.require_valid();
  fmt::print("old         {}\nnew         {}\n",
             record.axes ? words_of(old) : "none: the mapping's own world", words_of(axes));
  record.axes = axes;
  save_mapping(o.mapping, record);
  return 0;
}

int rectify(const MapOptions& o) {
  if (o.output.empty()) fail_argument("map: --rectify needs --output FILE.png");
  require_not_read({o.output}, {o.rectify, o.mapping});
  const MappingRecord record = mapping_for(o);
  const Image<uint8_t> picture = grey_levels(load_picture(o.rectify));
  if (picture.width() != record.width || picture.height() != record.height)
    fail_argument(fmt::format("{}: {} x {} pixels, the mapping was made with {} x {}", o.rectify,
                              picture.width(), picture.height(), record.width, record.height));
  if (o.undistort) {
    save_picture(o.output, undistorted(camera_of(record, o.mapping, "--undistort").camera().lens,
                                       record.width, record.height)
                               .apply(picture));
    return 0;
  }
  if (o.window.empty())
    fail_argument(
        "map: --rectify needs --window X,Y,WIDTH,HEIGHT,MM_PER_PIXEL in millimetres of the world, or "
        "--undistort");
  const auto w = parse_numbers(o.window, 5, "--window",
                               "X,Y,WIDTH,HEIGHT,MM_PER_PIXEL in millimetres, for example 0,0,200,150,0.25");
  save_picture(o.output, rectified(record.mapping, {{w[0], w[1]}, w[2], w[3], w[4], o.height}, record.width,
                                   record.height)
                             .apply(picture));
  return 0;
}

}  // namespace

void add_map(CLI::App& app, Action& action) {
  auto o = std::make_shared<MapOptions>();
  CLI::App* c = app.add_subcommand("map", "Maps a pixel to world coordinates with its standard uncertainty");
  c->add_option("mapping", o->mapping, "mapping file")->required();
  c->add_option("--pixel", o->pixels, "U,V in picture coordinates; may be repeated")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  c->add_option("--angle", o->angle, "picture angle, degrees from +x towards +y (clockwise as seen)");
  c->add_option("--height", o->height,
                "height above the mapping's plane, millimetres; needs a mapping with a lens")
      ->capture_default_str();
  c->add_option("--sigma-px", o->sigma_px, "how well the pixels themselves are known")->capture_default_str();
  c->add_flag("--json", o->json, "prints one JSON object for each answer");
  c->add_option("--flange", o->flange, "X,Y,Z,ROTATION of the flange, for a camera on the arm")
      ->group("Camera on the arm");
  c->add_option("--rotation", o->rotation, "format of that rotation, as for calibrate")
      ->group("Camera on the arm");
  c->add_flag("--radians", o->radians, "angles of that rotation are radians")->group("Camera on the arm");
  c->add_option("--width", o->width, "real width, for example 80mm or 3in; gives its distance")
      ->group("Distance from a width");
  c->add_option("--from", o->from, "U,V of one end")->group("Distance from a width");
  c->add_option("--to", o->to, "U,V of the other end")->group("Distance from a width");
  c->add_flag("--towards", o->towards,
              "the width faces the camera, as a ball's does; default: it is parallel to the sensor")
      ->group("Distance from a width");
  c->add_flag("--set-zero", o->set_zero,
              "stores --pixel as the user's zero in the mapping file; the calibration stays as it is")
      ->group("Zero and axes");
  c->add_option("--set-axes", o->axes,
                "directions of the user's x and y in the mapping's world, for example +X,-Y")
      ->group("Zero and axes");
  c->add_option("--rectify", o->rectify, "picture to rectify, as seen straight from above")
      ->group("Rectified views");
  c->add_option("--window", o->window, "X,Y,WIDTH,HEIGHT,MM_PER_PIXEL of the world that is shown")
      ->group("Rectified views");
  c->add_flag("--undistort", o->undistort, "removes the lens' distortion from the whole picture instead")
      ->group("Rectified views");
  c->add_option("--output", o->output, "rectified picture to write")->group("Rectified views");
  c->footer(
      "Example: heron map mapping.toml --pixel 640,512 --angle 30\n"
      "         heron map lens.toml --from 300,400 --to 420,402 --width 80mm     with a camera calibrated by "
      "views\n"
      "         heron map mapping.toml --pixel 640,512 --set-zero\n         heron map mapping.toml "
      "--rectify board.png --window 0,0,216,180,0.25 --output flat.png\n"
      "The world's angle grows from +X towards +Y, the other way round as seen.");
  c->callback([o, c, &action] {
    action = [o, c] {
      if (!std::isfinite(o->angle) || !std::isfinite(o->height))
        fail_argument("map: --angle and --height must be finite numbers");
      if (!(o->sigma_px >= 0)) fail_argument("map: --sigma-px cannot be negative");
      const std::string arm = " --flange --rotation --radians";
      if (o->set_zero || !o->axes.empty()) {
        require_used(*c, o->set_zero ? "--set-zero" : "--set-axes",
                     o->set_zero ? "mapping --set-zero --set-axes --pixel --height" : "mapping --set-axes");
        return set_axes(*o);
      }
      if (!o->rectify.empty()) {
        require_used(
            *c, o->undistort ? "--undistort" : "--rectify",
            "mapping --rectify --output" + (o->undistort ? " --undistort" : " --window --height" + arm));
        return rectify(*o);
      }
      if (!o->width.empty()) {
        require_used(*c, "--width", "mapping --width --from --to --towards --sigma-px" + arm);
        return map_width(*o);
      }
      if (o->pixels.empty())
        fail_argument(
            "map: what is asked? --pixel U,V, or --width with --from and --to, or --rectify PICTURE");
      require_used(*c, "--pixel", "mapping --pixel --angle --height --sigma-px" + arm);
      return map_pixels(*o);
    };
  });
}

}  // namespace heron::tool
