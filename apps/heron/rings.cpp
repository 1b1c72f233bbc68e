#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "heron/calibrate/ring_pose.hpp"
#include "heron/draw/ring_picture.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct RingsOptions {
  std::vector<std::string> pictures;
  std::string mapping, diameter, drawing;
  double height = 0;
  RingSearch search;
  bool json = false;
};

Json pose_json(const RingPose& p) {
  const Eigen::Quaterniond& q = p.camera_from_ring.rotation;
  const Eigen::Vector3d& t = p.camera_from_ring.position;
  const auto sigma = [&](int k) { return std::sqrt(p.covariance(k, k)); };
  return {
      {"position_mm", {t.x(), t.y(), t.z()}},
      {"rotation", {q.w(), q.x(), q.y(), q.z()}},
      {"tilt", p.tilt.degrees()},
      {"chi_square", p.chi_square},
      {"sigma",
       {{"position_mm", {sigma(3), sigma(4), sigma(5)}},
        {"turn", {radians(sigma(0)).degrees(), radians(sigma(1)).degrees(), radians(sigma(2)).degrees()}}}}};
}

Json ring_json(const RingSeen& r, const std::optional<UserPose>& world, const std::vector<RingPose>& poses) {
  Json j{{"identity", r.identity},
         {"x", r.centre.x},
         {"y", r.centre.y},
         {"angle", r.angle.degrees()},
         {"diameter", r.diameter_px},
         {"score", r.score},
         {"sigma",
          {{"x", *r.sigma.x},
           {"y", *r.sigma.y},
           {"angle", r.sigma.angle->degrees()},
           {"diameter", *r.sigma.scale * r.diameter_px}}}};
  if (world)
    j["world"] = {
        {"x", world->x_mm},
        {"y", world->y_mm},
        {"z", world->z_mm},
        {"angle", world->angle.degrees()},
        {"sigma",
         {{"x", *world->sigma.x}, {"y", *world->sigma.y}, {"angle", world->sigma.angle->degrees()}}}};
  if (!poses.empty()) {
    j["poses"] = Json::array();
    for (const RingPose& p : poses) j["poses"].push_back(pose_json(p));
  }
  return j;
}

void print_ring(const RingSeen& r, const std::optional<UserPose>& world, const std::vector<RingPose>& poses) {
  fmt::print(
      "  ring {:>2}  x {:.3f} y {:.3f} px \u00b1 {:.3f}  angle {:.3f} \u00b1 {:.3f}  diameter {:.2f} px  "
      "score {:.1f}\n",
      r.identity, r.centre.x, r.centre.y, std::max(*r.sigma.x, *r.sigma.y), r.angle.degrees(),
      r.sigma.angle->degrees(), r.diameter_px, r.score);
  if (world)
    fmt::print(
        "           X {:.3f} Y {:.3f} mm \u00b1 {:.3f}  angle {:.3f} \u00b1 {:.3f}, from +X towards +Y\n",
        world->x_mm, world->y_mm, std::max(*world->sigma.x, *world->sigma.y), world->angle.degrees(),
        world->sigma.angle->degrees());
  for (size_t i = 0; i < poses.size(); ++i) {
    const Eigen::Vector3d& t = poses[i].camera_from_ring.position;
    fmt::print(
        "           {} {:.2f} {:.2f} {:.2f} mm from the camera \u00b1 {:.2f} along it, tilted by {:.2f} "
        "\u00b1 {:.2f} degrees\n",
        i == 0 ? "lies" : "or  ", t.x(), t.y(), t.z(), std::sqrt(poses[i].covariance(5, 5)),
        poses[i].tilt.degrees(),
        radians(std::sqrt(0.5 * (poses[i].covariance(0, 0) + poses[i].covariance(1, 1)))).degrees());
  }
  if (poses.size() == 2)
    fmt::print("           two tilts explain it; a larger or more slanted mark would tell\n");
}

int read_rings(const RingsOptions& o) {
  require_not_read({o.drawing}, o.pictures);
  std::optional<MappingRecord> mapping;
  if (!o.mapping.empty()) mapping = load_mapping(o.mapping);
  std::optional<double> diameter;
  if (!o.diameter.empty()) diameter = parse_length(o.diameter, "--diameter");
  const CameraMapping* lens = mapping ? mapping->mapping.camera() : nullptr;
  if (diameter && !lens)
    fail_argument(
        "rings: a diameter gives the pose in space only through a known lens; give --mapping of a "
        "calibration "
        "with --lens or --lens-from");
  bool nothing = false;
  for (size_t i = 0; i < o.pictures.size(); ++i) {
    const Image<uint8_t> grey = grey_levels(load_picture(o.pictures[i]));
    const std::vector<RingSeen> rings = find_ring_marks(grey, o.search);
    nothing = nothing || rings.empty();
    Json list = Json::array();
    if (!o.json) fmt::print("{}: {} ring marks\n", o.pictures[i], rings.size());
    for (const RingSeen& r : rings) {
      std::optional<UserPose> world;
      if (mapping) {
        world = user_pose(mapping->mapping.world_pose(r.centre, r.angle, r.sigma, o.height),
                          mapping->axes ? &*mapping->axes : nullptr);
      }
      const std::vector<RingPose> poses =
          diameter ? ring_poses(r, *lens, *diameter) : std::vector<RingPose>{};
      if (o.json)
        list.push_back(ring_json(r, world, poses));
      else
        print_ring(r, world, poses);
    }
    if (o.json)
      fmt::print("{}\n", Json{{"picture", o.pictures[i]}, {"rings", list}}.dump(
                             -1, ' ', false, Json::error_handler_t::replace));
    if (!o.drawing.empty()) save_picture(numbered(o.drawing, i, o.pictures.size()), draw_rings(grey, rings));
    std::fflush(stdout);
  }
  return nothing ? 1 : 0;
}

}  // namespace

void add_rings(CLI::App& app, Action& action) {
  auto o = std::make_shared<RingsOptions>();
  CLI::App* c = app.add_subcommand("rings", "Reads ring marks: identity, position, angle, and pose in space");
  c->add_option("pictures", o->pictures, "pictures")->required();
  c->add_option("--mapping", o->mapping, "mapping file; adds world positions");
  c->add_option("--height", o->height, "height of the marks above the mapping's plane, millimetres");
  c->add_option("--diameter", o->diameter, "diameter of the marks, for example 40mm; adds the pose in space");
  c->add_option("--min-diameter", o->search.min_diameter_px, "pixels, from 12")->capture_default_str();
  c->add_option("--min-score", o->search.min_score, "0 to 100")->capture_default_str();
  c->add_option("--picture", o->drawing,
                "draws the marks; several pictures get the names FILE-01, FILE-02, ...");
  c->add_flag("--json", o->json, "prints one JSON object for each picture");
  c->footer(
      "Example: heron rings arm/moved.png --mapping plane.toml --diameter 22mm --picture rings.png\n"
      "Print marks with `heron board --kind ring`. Exit status 1 when a picture holds none.");
  c->callback([o, &action] { action = [o] { return read_rings(*o); }; });
}

}  // namespace heron::tool
