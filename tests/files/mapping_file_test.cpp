#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/files/ground_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/target_file.hpp"
#include "heron/render/random.hpp"
#include "support.hpp"

using namespace heron;
using support::TemporaryFolder;

using support::contains;
using support::error_of;

namespace {

MappingRecord camera_record() {
  render::Random random(1);
  CameraModel camera{{.fx = 1900.123456789,
                      .fy = 1901.5,
                      .cx = 640.25,
                      .cy = 500.125,
                      .k1 = -0.1,
                      .k2 = 0.03,
                      .k3 = 1e-3,
                      .p1 = 1e-4,
                      .p2 = -2e-4},
                     {turn_of({3.0, 0.1, -0.2}), {12.5, -7.25, 512.0625}}};
  CameraMapping::Covariance c;
  for (int i = 0; i < 15; ++i)
    for (int j = 0; j <= i; ++j) c(i, j) = c(j, i) = random.normal();
  MappingRecord r;
  r.mapping = CameraMapping(camera, c);
  r.made_from = "lens", r.world = "board", r.date = "2026-11-25T00:00:00Z", r.width = 1280, r.height = 1024;
  r.pictures = {"one.png", "a \"quoted\" name.png"};
  r.points = {{{1.5, 2.25}, {3, 4}, {0.01, -0.02}, 2}};
  r.board = BoardShape{.kind = BoardKind::checker, .columns = 11, .rows = 8, .pitch_mm = 15};
  r.axes = Axes{{10.5, -3}, AxisDirection::minus_y, AxisDirection::plus_x};
  r.anchors = {{7, {1.25, -3.5}, WorldAngle{degrees(33.3)}, 22.01, 4, 0.002, 0.003, degrees(0.004)}};
  return r;
}

}  // namespace

TEST_CASE("a camera's mapping comes back to the last bit, with its axes and the pictures' names") {
  const TemporaryFolder folder;
  const MappingRecord r = camera_record();
  save_mapping(folder / "m.toml", r);
  const MappingRecord back = load_mapping(folder / "m.toml");
  REQUIRE(back.mapping.camera());
  CHECK(vector_of(back.mapping.camera()->camera().lens) == vector_of(r.mapping.camera()->camera().lens));
  CHECK(back.mapping.camera()->covariance() == r.mapping.camera()->covariance());
  CHECK(back.mapping.camera()->camera().camera_from_world.position ==
        r.mapping.camera()->camera().camera_from_world.position);
  CHECK(back.mapping.camera()->camera().camera_from_world.rotation.angularDistance(
            r.mapping.camera()->camera().camera_from_world.rotation) < 1e-15);
  CHECK(back.pictures == r.pictures);
  CHECK(back.points[0].view == 2);
  CHECK(back.axes->zero_mm == r.axes->zero_mm);
  REQUIRE(back.anchors.size() == 1);
  CHECK((back.anchors[0].identity == 7 && back.anchors[0].place_mm == r.anchors[0].place_mm));
  CHECK(back.anchors[0].diameter_mm == 22.01);
  CHECK(back.anchors[0].sigma_angle.degrees() == doctest::Approx(0.004));
  CHECK(back.axes->x == AxisDirection::minus_y);
  CHECK(back.board->kind == BoardKind::checker);
}

TEST_CASE("a camera's mapping that cannot be is refused where it is wrong") {
  const TemporaryFolder folder;
  save_mapping(folder / "m.toml", camera_record());
  const std::string text = support::read_text(folder / "m.toml");
  const auto broken = [&](const std::string& from, const std::string& to) {
    return support::error_of_changed(text, from, to, folder / "b.toml",
                                     [](const std::string& path) { load_mapping(path); });
  };
  CHECK(contains(broken("kind = \"camera\"", "kind = \"oracle\""), "\"plane\" or \"camera\""));
  CHECK(contains(broken("focal_px = [1900.123456789", "focal_px = [-1900.1"), "above 0"));
  CHECK(contains(broken("focal_px", "focal_pix"), "'focal_px' is missing"));
  CHECK(contains(broken("rotation = [", "rotation = [7.0, "), "array of 4 numbers"));
  CHECK(contains(broken("y = \"+X\"", "y = \"-Y\""), "same line"));
  CHECK(contains(broken("y = \"+X\"", "y = \"up\""), "+X"));
  CHECK(contains(broken("picture_size = [1280", "picture_size = [0"), "WIDTH, HEIGHT"));
  CHECK(contains(broken("pictures = [\"one.png\"", "pictures = [5"), "texts in quotes"));
  CHECK(contains(broken("version = 1", "version = 9"), "version"));
  CHECK(contains(broken("[axes]", "[axis]"), "axis"));
  CHECK(contains(broken("  [7.0, 1.25", "  [77.0, 1.25"), "1 to 19"));
  CHECK(contains(broken("22.01, 4", "-22.01, 4"), "above 0"));
}

TEST_CASE("a ground comes back, and broken ones are refused") {
  const TemporaryFolder folder;
  const GroundPlane g{.offset_mm = 25.9285,
                      .slope = {0.018, -0.0023},
                      .pitch_mm = {0.2, 0.25},
                      .width = 640,
                      .height = 512,
                      .sigma_mm = 0.02,
                      .share = 0.6,
                      .sigma_tilt = 0.001_deg};
  save_ground(folder / "g.toml", g);
  const GroundPlane back = load_ground(folder / "g.toml");
  CHECK(back.offset_mm == g.offset_mm);
  CHECK(back.slope == g.slope);
  CHECK(back.at(17, 300) == g.at(17, 300));
  CHECK(back.tilt().degrees() == g.tilt().degrees());
  support::write_text(folder / "b.toml",
                      "version = 1\nkind = \"ground\"\noffset_mm = 1.0\nslope = [0.0, 0.0]\npitch_mm = [0.0, "
                      "1.0]\nmap_size = [10, 10]\n");
  CHECK(contains(error_of([&] { load_ground(folder / "b.toml"); }), "above 0"));
  support::write_text(folder / "b.toml", "version = 1\nkind = \"plane\"\n");
  CHECK(contains(error_of([&] { load_ground(folder / "b.toml"); }), "ground"));
}

TEST_CASE("recordings keep times and settings; targets keep height and grasp") {
  const TemporaryFolder folder;
  Image<uint8_t> p(60, 50);
  for (int y = 15; y < 35; ++y)
    for (int x = 20; x < 45; ++x) p(x, y) = 180;
  const PatternTarget target =
      teach_pattern(p, Region::rectangle(Box{5, 5, 50, 40}),
                    {.name = "box", .geometry = {.height_mm = -2.5, .grasp = {3, 4, WorldAngle{90_deg}}}});
  save_target(folder / "t.png", target);
  const PartGeometry geometry = load_target(folder / "t.png").target.geometry();
  CHECK(geometry.height_mm == -2.5);
  CHECK(geometry.grasp.y == 4);
  CHECK(geometry.grasp.angle.degrees() == doctest::Approx(90));

  support::write_text(folder / "recording.toml",
                      "version = 1\n[[picture]]\nfile = \"t.png\"\nat_s = 0.5\nexposure_ms = 8\ngain = "
                      "2\n[[picture]]\nfile = \"t.png\"\n");
  const Recording r = load_recording(folder.path());
  CHECK(*r.pictures[0].at_s == 0.5);
  CHECK(*r.pictures[0].exposure_ms == 8);
  CHECK_FALSE(r.pictures[1].at_s);
  save_recording(r);
  CHECK(*load_recording(folder.path()).pictures[0].gain == 2);
  support::write_text(folder / "recording.toml", "version = 1\n[[picture]]\nfile = \"t.png\"\nat = 0.5\n");
  CHECK(contains(error_of([&] { load_recording(folder.path()); }), "'at'"));
}
