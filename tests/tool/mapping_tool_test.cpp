#include <doctest/doctest.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "heron/simulation/arm_cell.hpp"
#include "support.hpp"

// The ways to a mapping beside the plain board, through the built tool, on the simulated arm.
using support::contains;

namespace {

using nlohmann::json;

struct Arm {
  support::TemporaryFolder folder;
  heron::ArmCell cell = heron::write_arm_cell(folder / "arm", 3, 12);
  std::string board = " --board checker --columns 11 --rows 8 --pitch 15 ";

  auto run(const std::string& arguments) const {
    return support::run(std::string(HERON_TOOL) + " " + arguments, folder.path());
  }
  json answer(const std::string& arguments) const {
    const auto ran = run(arguments + " --json");
    REQUIRE_MESSAGE(ran.status == 0, ran.err);
    return json::parse(ran.out);
  }
  std::string refused(const std::string& arguments, int status = 2) const {
    const auto ran = run(arguments);
    CHECK_MESSAGE(ran.status == status, arguments << "\n" << ran.err);
    return ran.err;
  }
};

const Arm& arm() {
  static const Arm shared;
  return shared;
}

}  // namespace

TEST_CASE("a lens from twelve pictures, a plane through it, and heights") {
  const json lens =
      arm().answer("calibrate --lens" + arm().board +
                   "arm/stop-*.png --output lens.toml --sigma-map sigma.png --picture residuals.png");
  const heron::Lens& truth = arm().cell.lens;
  CHECK(lens["kind"] == "lens");
  CHECK(lens["focal_px"][0].get<double>() == doctest::Approx(truth.fx).epsilon(1e-4));
  CHECK(lens["focal_px"][1].get<double>() == doctest::Approx(truth.fy).epsilon(1e-4));
  CHECK(std::abs(lens["principal_px"][0].get<double>() - truth.cx) < 0.2);
  CHECK(std::abs(lens["radial"][0].get<double>() - truth.k1) < 1e-3);
  CHECK(lens["radial"][2] == 0.0);
  CHECK(lens["k3_free"] == false);
  CHECK(lens["rms_px"].get<double>() < 0.02);
  CHECK(lens["sigma"]["radial"].size() == 3);
  CHECK(lens["sigma"]["tangential"].size() == 2);
  CHECK(std::filesystem::exists(arm().folder / "sigma.png"));
  CHECK(std::filesystem::exists(arm().folder / "residuals.png"));

  const json plane =
      arm().answer("calibrate --lens-from lens.toml" + arm().board + "arm/stop-01.png --output plane.toml");
  CHECK(plane["kind"] == "pose");
  const heron::CameraModel camera{truth, arm().cell.flange_from_camera.inverse() *
                                             arm().cell.robot_from_flange[0].inverse() *
                                             arm().cell.robot_from_board};
  for (const double height : {0.0, 30.0}) {
    const json p = arm().answer("map plane.toml --pixel 1200,80 --height " + std::to_string(height));
    const heron::WorldPoint expected = *camera.plane_point({1200, 80}, height);
    CHECK(std::hypot(p["x"].get<double>() - expected.x, p["y"].get<double>() - expected.y) < 0.03);
    CHECK(p["z"] == height);
  }
  // A width of 60 mm on the board, from an apparent width.
  const auto pixel = [&](double x, double y) {
    const heron::Point2 p = camera.project({x, y, 0});
    return std::to_string(p.x) + "," + std::to_string(p.y);
  };
  const json d = arm().answer("map plane.toml --width 60mm --from " + pixel(0, 0) + " --to " + pixel(60, 0));
  CHECK(d["along_axis_mm"].get<double>() ==
        doctest::Approx((camera.camera_from_world * Eigen::Vector3d(30, 0, 0)).z()).epsilon(0.01));
  CHECK(d["along_ray_mm"] > d["along_axis_mm"]);
  // Rectified, the board is square again: a picture of 0.5 mm a pixel.
  CHECK(arm()
            .run("map plane.toml --rectify arm/stop-05.png --window -20,-20,190,145,0.25 --output flat.png")
            .status == 0);
  CHECK(arm().run("map plane.toml --rectify arm/stop-05.png --undistort --output straight.png").status == 0);
  CHECK(std::filesystem::exists(arm().folder / "straight.png"));
}

TEST_CASE("hand-eye from the robot's poses, and poses in a wrong form are recognised") {
  const std::string call = "calibrate --hand-eye arm/poses.csv --mount arm" + arm().board + "arm/stop-*.png";
  const json j = arm().answer(call + " --rotation zyx --output eye.toml");
  const Eigen::Vector3d truth = arm().cell.flange_from_camera.position;
  double off = 0;
  for (int k = 0; k < 3; ++k) {
    const double d = j["flange_from_camera"]["position_mm"][static_cast<size_t>(k)].get<double>() - truth[k];
    off += d * d;
    CHECK(std::abs(d) < 5 * j["sigma"]["position_mm"][static_cast<size_t>(k)].get<double>());
  }
  CHECK(std::sqrt(off) < 0.2);
  CHECK(j["stops"].size() == 12);
  for (const char* other : {" --rotation xyz", " --rotation zyx --radians"}) {
    const auto misread = arm().run(call + other + " --output misread.toml");
    CHECK(misread.status == 1);
    CHECK(contains(misread.err, "They do as zyx in degrees"));
    CHECK_FALSE(std::filesystem::exists(arm().folder / "misread.toml"));
  }
  CHECK(contains(arm().refused(call), "--rotation says"));
  CHECK(contains(arm().refused(call + " --rotation spin"), "it is one of"));
  CHECK(contains(arm().refused("map eye.toml --pixel 640,512"), "--flange X,Y,Z,ROTATION"));
  // The board's first corner, seen from the second stop, lies where the robot has it.
  const heron::Pose3& flange = arm().cell.robot_from_flange[1];
  const Eigen::Quaterniond& q = flange.rotation;
  const heron::CameraModel camera{arm().cell.lens,
                                  arm().cell.flange_from_camera.inverse() * flange.inverse()};
  const Eigen::Vector3d corner = arm().cell.robot_from_board.position;
  const heron::Point2 seen = camera.project(corner);
  const auto ran =
      arm().run("map eye.toml --json --pixel " + std::to_string(seen.x) + "," + std::to_string(seen.y) +
                " --height " + std::to_string(corner.z()) + " --rotation quaternion-wxyz --flange=" +
                std::to_string(flange.position.x()) + "," + std::to_string(flange.position.y()) + "," +
                std::to_string(flange.position.z()) + "," + std::to_string(q.w()) + "," +
                std::to_string(q.x()) + "," + std::to_string(q.y()) + "," + std::to_string(q.z()));
  REQUIRE_MESSAGE(ran.status == 0, ran.err);
  const json p = json::parse(ran.out);
  CHECK(std::hypot(p["x"].get<double>() - corner.x(), p["y"].get<double>() - corner.y()) < 0.2);
}

TEST_CASE("one length, a length at a distance, known points") {
  const std::string size = " --size 1280,1024 ";
  CHECK(arm()
            .answer("calibrate --length 4in --from 300,500 --to 706.4,500 --output one.toml" +
                    size)["mm_per_pixel"]
            .get<double>() == doctest::Approx(0.25));
  const json at = arm().answer(
      "calibrate --length 100mm --distance 0.6m --from 300,500 --to 700,500 --output far.toml" + size);
  CHECK(at["focal_px"][0].get<double>() == doctest::Approx(2400));
  CHECK(
      arm().answer("map far.toml --width 100mm --from 600,500 --to 800,500")["along_axis_mm"].get<double>() ==
      doctest::Approx(1200));
  CHECK(contains(arm().refused("map one.toml --width 100mm --from 600,500 --to 800,500"), "needs a camera"));
  CHECK(contains(arm().refused("map one.toml --pixel 640,500 --height 5"), "nothing is known of heights"));
  CHECK(
      contains(arm().refused("calibrate --length 4cubits --from 300,500 --to 700,500 --output x.toml" + size),
               "12.5mm, 0.75in"));

  support::write_text(arm().folder / "pairs.csv",
                      "u,v,x,y\n100,900,0,0\n900,900,200,0\n900,300,200,150\n100,300,0,150\n500,600,100,"
                      "75\n700,700,150,57\n");
  const auto off = arm().run("calibrate --points pairs.csv --json --output points.toml" + size);
  CHECK(off.status == 1);
  CHECK_FALSE(std::filesystem::exists(arm().folder / "points.toml"));
  const json points = json::parse(off.out);
  CHECK(points["model"] == "similarity");
  CHECK(points["wrong"]["pair"] == 6);
  CHECK(points["wrong"]["off_mm"].get<double>() == doctest::Approx(7));
  CHECK(contains(arm().refused("calibrate --points pairs.csv --model cubic --output x.toml" + size),
                 "similarity, affine or homography"));
  CHECK(contains(arm().refused("calibrate --points pairs.csv --touch-points pairs.csv"), "two ways"));
}

TEST_CASE(
    "a worse mapping does not take a better one's place, zero and axes stay, and a check tells what "
    "changed") {
  arm().answer("calibrate" + arm().board + "arm/stop-01.png --output kept.toml");
  const std::string before = support::read_text(arm().folder / "kept.toml");
  support::write_text(
      arm().folder / "rough.csv",
      "u,v,x,y\n100,900,0,0\n900,900,200,0\n900,300,200,151\n100,300,0.5,150\n500,600,100,76\n");
  CHECK(contains(
      arm().refused("calibrate --points rough.csv --tolerance-px 20 --size 1280,1024 --output arm/poses.csv"),
      "no mapping"));
  const json zero = json::parse(arm().run("map kept.toml --pixel 640,512 --json").out);
  const auto set = arm().run("map kept.toml --pixel 640,512 --set-zero");
  CHECK(contains(set.out, "none: the mapping's own world"));
  const json now = json::parse(arm().run("map kept.toml --pixel 640,512 --json").out);
  CHECK(std::abs(now["x"].get<double>()) < 1e-9);
  CHECK(zero["x"].get<double>() > 10);
  // Calibrated anew, the zero stays.
  const auto again = arm().run("calibrate" + arm().board + "arm/stop-01.png --output kept.toml");
  CHECK(contains(again.err, "zero and axes are kept"));
  CHECK(std::abs(json::parse(arm().run("map kept.toml --pixel 640,512 --json").out)["x"].get<double>()) <
        1e-9);
  CHECK(contains(arm().refused("map kept.toml --set-axes +X,-X"), "same line"));

  CHECK(arm().run("calibrate --check kept.toml arm/stop-01.png").status == 0);
  const auto changed = arm().run("calibrate --check kept.toml arm/stop-03.png --json");
  CHECK(changed.status == 1);
  CHECK(json::parse(changed.out)["state"] == "changed");
  CHECK(contains(arm().refused("calibrate --check far.toml arm/stop-03.png"), "world is no board's"));
}

TEST_CASE("light judges pictures and height maps; level finds the table, keeps it and draws it") {
  const auto lit =
      arm().run("light arm/stop-01.png --board checker --columns 11 --rows 8 --picture light.png --json");
  REQUIRE_MESSAGE(lit.status == 0, lit.err);
  const json l = json::parse(lit.out);
  CHECK(l["verdict"] != "poor");
  CHECK(l["measures"].size() == 9);
  CHECK(std::filesystem::exists(arm().folder / "light.png"));
  CHECK(contains(arm().refused("light arm/stop-01.png --region 5000,0,50,50"), "at least 32 x 32"));
  CHECK(contains(arm().refused("light none.png"), "No such file"));

  const std::string made = arm().run("simulate stack --seed 4 --output stack.tif").out;
  const json g = arm().answer(
      "level stack.tif --pitch 0.2,0.25 --save ground.toml --output flat.tif --band 1..30 --mask parts.png "
      "--picture level.png");
  CHECK(std::abs(g["tilt"].get<double>() - std::stod(made.substr(made.find("tilted by ") + 10))) < 0.01);
  CHECK(arm().answer("level flat.tif --pitch 0.2,0.25")["tilt"].get<double>() < 0.001);
  CHECK(arm().answer("level stack.tif --from ground.toml")["offset_mm"] == g["offset_mm"]);
  for (const char* file : {"parts.png", "level.png"}) CHECK(std::filesystem::exists(arm().folder / file));
  CHECK(json::parse(arm().run("light stack.tif --json").out)["measures"][0]["name"] == "holes");
  CHECK(contains(arm().refused("level stack.tif"), "--pitch X,Y"));
  CHECK(contains(arm().refused("level arm/stop-01.png --pitch 1,1"), "no height map"));
  CHECK(contains(arm().refused("level stack.tif --pitch 0.2,0.25 --mask x.png"), "--band"));
  CHECK(contains(arm().refused("level stack.tif --from kept.toml"), "kept.toml"));
}

TEST_CASE("ring marks: printed, read, anchored, checked, carried along") {
  // The printed sheet reads as what it says.
  CHECK(arm().run("board --kind ring --identity 11 --diameter 30 --output ring.png --dpi 100").status == 0);
  const json sheet = arm().answer("rings ring.png --picture seen.png");
  REQUIRE(sheet["rings"].size() == 1);
  CHECK(sheet["rings"][0]["identity"] == 11);
  CHECK(std::abs(sheet["rings"][0]["angle"].get<double>()) < 0.05);
  CHECK(sheet["rings"][0]["diameter"].get<double>() == doctest::Approx(30 / 25.4 * 100).epsilon(2e-3));
  CHECK(std::filesystem::exists(arm().folder / "seen.png"));
  CHECK(contains(arm().refused("board --kind ring --identity 40 --output ring.png"), "1 to 19"));

  arm().run("calibrate --lens" + arm().board + "arm/stop-*.png --output ring-lens.toml");
  arm().run("calibrate --lens-from ring-lens.toml" + arm().board + "arm/stop-01.png --output table.toml");
  const json anchors = arm().answer("calibrate --anchor table.toml arm/stop-01.png --output anchored.toml");
  CHECK(anchors["kind"] == "anchors");
  REQUIRE(anchors["rings"].size() >= 2);
  for (const json& a : anchors["rings"])
    CHECK(a["diameter_mm"].get<double>() == doctest::Approx(22).epsilon(1e-3));
  CHECK(contains(arm().run("calibrate --check anchored.toml arm/stop-01.png").out, "holds"));
  const auto moved = arm().run("calibrate --check anchored.toml arm/moved.png");
  CHECK((moved.status == 1 && contains(moved.out, "MOVED") && contains(moved.out, "--transfer")));
  const json carried = arm().answer("calibrate --transfer anchored.toml arm/moved.png --output carried.toml");
  CHECK(carried["turn"].get<double>() ==
        doctest::Approx(arm().cell.old_from_moved.angle.degrees()).epsilon(0.01));
  CHECK(contains(arm().run("calibrate --check carried.toml arm/moved.png").out, "the mapping holds"));
  CHECK(contains(arm().refused("calibrate --transfer anchored.toml arm/bumped.png --output bumped.toml", 1),
                 "--free"));
  CHECK(!std::filesystem::exists(arm().folder / "bumped.toml"));
  const json free =
      arm().answer("calibrate --transfer anchored.toml arm/bumped.png --free --output bumped.toml");
  CHECK(free["motion"] == "free");
  const json rings = arm().answer("rings arm/moved.png --mapping carried.toml --diameter 22mm");
  CHECK(rings["rings"][0]["poses"].size() >= 1);
  CHECK(rings["rings"][0]["world"]["sigma"]["x"].get<double>() > 0);

  // Not seeing is an answer, another picture size is not.
  arm().run("board --kind ring --identity 19 --output other.png --dpi 80");
  CHECK(contains(arm().refused("calibrate --check anchored.toml other.png"), "pixels"));
  arm().run("simulate tray --seed 4 --views 1 --output tray");
  CHECK(
      contains(arm().refused("calibrate --check anchored.toml tray/teach.png", 1), "none of the mapping's"));
  CHECK(contains(arm().refused("calibrate --transfer anchored.toml tray/teach.png --output x.toml", 1),
                 "none of"));
  CHECK(contains(arm().refused("rings arm/moved.png --mapping ring-lens.toml --diameter 0mm"), "above 0"));

  // Nothing that stands there is lost without a word.
  arm().run("map anchored.toml --pixel 640,512 --set-zero");
  for (const char* name : {"with-zero.toml", "carried.toml"}) {
    arm().run(std::string("calibrate --transfer anchored.toml arm/moved.png --output ") + name);
    CHECK(contains(support::read_text(arm().folder / name), "[axes]"));
  }
  const auto anew = arm().run("calibrate --lens-from ring-lens.toml" + arm().board +
                              "arm/stop-01.png --output anchored.toml");
  CHECK(contains(anew.err, "its zero and axes are kept"));
  CHECK(contains(anew.err, "ring marks lay in the old world"));
  support::write_text(arm().folder / "notes.txt", "no mapping");
  CHECK(contains(arm().refused("calibrate --anchor table.toml arm/stop-01.png --output notes.txt"),
                 "no mapping"));
  CHECK(support::read_text(arm().folder / "notes.txt") == "no mapping");

  CHECK(contains(arm().refused("calibrate --transfer table.toml arm/moved.png --output x.toml"),
                 "no ring marks"));
  CHECK(contains(arm().refused("calibrate --anchor table.toml arm/moved.png"), "--output"));
  CHECK(contains(arm().refused("rings arm/moved.png --diameter 22mm"), "known lens"));
}
