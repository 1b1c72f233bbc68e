#include <doctest/doctest.h>

#include "files/codecs.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/files/target_file.hpp"
#include "heron/render/studio_views.hpp"
#include "mutate.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;
using support::TemporaryFolder;

namespace {

/// A view of the studio with one part that lies straight, and targets taught from it.
struct Studio {
  render::StudioView view;
  Picture picture;
  Image<uint8_t> grey;

  explicit Studio(render::StudioView v) : view(std::move(v)) {
    render::Random random(4);
    picture = render::picture_of(view, random);
    grey = grey_levels(picture);
  }
  Target taught(const std::string& kind, double width, double height, TeachOptions words,
                const Image<uint8_t>* background = nullptr) const {
    TeachingPicture from{.grey = grey, .region = Region::rectangle(view.parts[0].pixel, width, height, {})};
    if (const auto* color = std::get_if<Image<Rgb>>(&picture.pixels)) from.color = *color;
    if (background) from.backgrounds = {*background};
    return teach_target(kind, from, words);
  }
};

Studio studio_of(const std::string& kind) {
  render::Random random(6);
  const render::StudioFilling one{.parts = 1, .turned = 0};
  return Studio(kind == "color"     ? render::glazed_tiles(random, one)
                : kind == "outline" ? render::leaf_blanks(random, one)
                : kind == "border"  ? render::floor_panel(random, one)
                                    : render::door_frame(random, one));
}

/// The same finds before and after the file.
void check_same_kind(const Target& target, const std::string& path, const Picture& picture) {
  save_target(path, target);
  const LoadedTarget back = load_target(path);
  CHECK_FALSE(back.edited);
  CHECK_FALSE(back.resized);
  CHECK(std::string(back.target.info().id) == target.info().id);
  CHECK(back.target.name() == target.name());
  const auto before = target.settings(), after = back.target.settings();
  REQUIRE(before.size() == after.size());
  for (size_t i = 0; i < before.size(); ++i) CHECK(before[i].value == after[i].value);
  CHECK(back.target.options().min_score == target.options().min_score);
  CHECK(back.target.geometry().height_mm == target.geometry().height_mm);
  const FindResult a = find(target, prepare(picture, target)),
                   b = find(back.target, prepare(picture, back.target));
  REQUIRE(a.detections.size() == 1);
  REQUIRE(b.detections.size() == 1);
  CHECK(a.detections[0].x == b.detections[0].x);
  CHECK(a.detections[0].score == b.detections[0].score);
}

}  // namespace

TEST_CASE("targets of every kind come back from their files as they were") {
  TemporaryFolder folder;
  FindOptions options = find_options_of("color");
  options.min_score = 61.25, options.max_count = 2;
  const TeachOptions words{.name = "a \"tile\"", .options = options, .geometry = {.height_mm = 2.5}};
  const Studio glaze = studio_of("color"), blank = studio_of("outline"), bore = studio_of("marker");
  check_same_kind(glaze.taught("color", 40, 40, words), folder / "color.png", glaze.picture);
  check_same_kind(blank.taught("outline", 220, 160, words), folder / "outline.png", blank.picture);
  check_same_kind(bore.taught("marker", 96, 96, words), folder / "marker.png", bore.picture);
  TeachOptions panel_words{.name = "panel", .settings = {{"chip_width", 12.0}, {"open", false}}};
  std::vector<double> drawn;
  const Studio panel = studio_of("border");
  for (const Point2& p : panel.view.parts[0].corners) drawn.push_back(p.x + 2), drawn.push_back(p.y - 2);
  panel_words.settings["polyline"] = drawn;
  check_same_kind(panel.taught("border", 540, 420, panel_words), folder / "border.png", panel.picture);
  // An empty background travels with the outline.
  render::StudioView empty = blank.view;
  empty.scene.pieces.clear();
  const Image<uint8_t> behind = Studio(empty).grey;
  const Target with = blank.taught("outline", 220, 160, words, &behind);
  check_same_kind(with, folder / "behind.png", blank.picture);
  PngContent content = decode_png(read_file(folder / "behind.png"), "behind.png");
  REQUIRE(content.extras.size() == 1);
  CHECK(content.extras[0].name == "background");
  write_file(folder / "lost.png", encode_png(content.picture, &*content.alpha, content.texts));
  CHECK(contains(error_of([&] { load_target(folder / "lost.png"); }), "teach it again"));
  content.extras[0].bytes = "no picture";
  write_file(folder / "bad.png", encode_png(content.picture, &*content.alpha, content.texts, content.extras));
  CHECK_THROWS_AS(load_target(folder / "bad.png"), Error);
}

TEST_CASE("a color's file keeps its color, and a file that has lost it says so") {
  TemporaryFolder folder;
  const Studio glaze = studio_of("color");
  save_target(folder / "teal.png", glaze.taught("color", 40, 40, {.name = "teal"}));
  PngContent content = decode_png(read_file(folder / "teal.png"), "teal.png");
  CHECK(std::holds_alternative<Image<Rgb>>(content.picture.pixels));
  CHECK(contains(content.texts.begin()->second, "kind = \"color\""));
  Picture grey;
  grey.pixels = grey_levels(content.picture);
  write_file(folder / "grey.png", encode_png(grey, &*content.alpha, content.texts));
  CHECK(contains(error_of([&] { load_target(folder / "grey.png"); }), "lost its color"));
  // A limit or setting of another kind is refused where it stands.
  std::string& text = content.texts.begin()->second;
  text.replace(text.find("min_light"), 9, "min_lihgt");
  write_file(folder / "typo.png", encode_png(content.picture, &*content.alpha, content.texts));
  CHECK(contains(error_of([&] { load_target(folder / "typo.png"); }), "min_light"));
}

TEST_CASE("mutated settings of every kind are refused in words, or serve") {
  TemporaryFolder folder;
  const Studio glaze = studio_of("color"), blank = studio_of("outline"), bore = studio_of("marker");
  Image<Rgb> floor(160, 120);
  for (int y = 0; y < 120; ++y)
    for (int x = 0; x < 160; ++x) floor(x, y) = x > 70 && x < 95 ? Rgb{30, 150, 150} : Rgb{160, 150, 140};
  const Image<uint8_t> grey_floor = grey_levels(floor);
  Picture walked;
  walked.pixels = floor;
  const TeachingPicture on_floor{
      .grey = grey_floor, .color = floor, .region = Region::rectangle({40, 5, 90, 110})};
  const std::vector<std::pair<Target, const Picture*>> cases{
      {glaze.taught("color", 40, 40, {.name = "c"}), &glaze.picture},
      {blank.taught("outline", 220, 160, {.name = "o"}), &blank.picture},
      {bore.taught("marker", 96, 96, {.name = "m"}), &bore.picture},
      {teach_target("edge", on_floor, {.name = "e"}), &walked},
      {teach_target("stripe", on_floor, {.name = "s"}), &walked}};
  render::Random random(21);
  for (const auto& [target, picture] : cases) {
    CAPTURE(target.info().id);
    save_target(folder / "t.png", target);
    const PngContent good = decode_png(read_file(folder / "t.png"), "t.png");
    int refused = 0, served = 0;
    for (int i = 0; i < (sanitized ? 25 : 120); ++i) {
      auto texts = good.texts;
      texts.begin()->second = support::mutated(texts.begin()->second, random);
      write_file(folder / "x.png", encode_png(good.picture, &*good.alpha, texts, good.extras));
      try {
        const Target read = load_target(folder / "x.png").target;
        ++served;
        if (served <= 6) find(read, prepare(*picture, read), read.options(), Explain::never);
      } catch (const Error& error) {
        ++refused;
        REQUIRE(std::string(error.what()).size() > 10);
      }
    }
    CHECK(refused > 15);
  }
}

TEST_CASE("a report tells what each kind has, and null where it has no angle") {
  const Studio bore = studio_of("marker");
  const Target target = bore.taught("marker", 96, 96, {.name = "bore"});
  Report report;
  add_result(report, find(target, prepare(bore.picture, target)), {});
  const std::string line = report_json(report);
  CHECK(contains(line, "\"angle\":null"));
  CHECK(contains(line, "\"diameter\":"));
  CHECK(contains(line, "\"quality\":{\"total\":"));
  // So it is with what was turned away.
  Report nothing;
  FindOptions strict = target.options();
  strict.region = Region::rectangle({0, 0, 30, 30});
  add_result(nothing, find(target, prepare(bore.picture, target), strict, Explain::always), {});
  CHECK(nothing.parts.empty());
  REQUIRE_FALSE(nothing.misses.empty());
  CHECK(contains(report_json(nothing), "\"angle\":null"));
  CHECK_FALSE(contains(report_json(nothing), "\"angle\":0"));
}

TEST_CASE("a report tells points, lengths and chips of a border, and how far away what has a size is") {
  Detection s{.target = "panel", .x = 320, .y = 240};
  s.points = {{"corner1", {100, 50}, {0.02, 0.03}}};
  s.lengths = {{"side1", {100, 50}, {500, 50}, 0.02}};
  s.defects = {{.what = "chip", .x = 200, .y = 55, .area = 30, .depth = 5, .length = 7}};
  FindResult result;
  result.detections = {s};
  const CameraModel camera{
      {.fx = 500, .fy = 500, .cx = 320, .cy = 240},
      {Eigen::Quaterniond(Eigen::AngleAxisd(std::numbers::pi, Eigen::Vector3d::UnitX())), {0, 0, 1000}}};
  const Mapping mapping = CameraMapping(camera);
  Report flat, sized;
  add_result(flat, result, {&mapping});
  const std::string lying = report_json(flat);
  CHECK(contains(lying,
                 "\"points\":[{\"name\":\"corner1\",\"x\":100.0,\"y\":50.0,\"sigma\":{\"x\":0.02,\"y\":0.03},"
                 "\"world\":{"));
  CHECK(contains(
      lying,
      "\"length\":400.0,\"from\":[100.0,50.0],\"to\":[500.0,50.0],\"length_mm\":80"));  // 400 px of 500 at
                                                                                        // 1000 mm: 800 mm
  CHECK(contains(lying, "\"what\":\"chip\""));
  CHECK(contains(lying, "\"length\":7.0"));
  CHECK_FALSE(contains(lying, "\"distance\":"));
  add_result(sized, result, {&mapping}, {.size_mm = 200});
  CHECK(contains(report_json(sized), "\"distance\":{\"axis\":250.0"));
}

TEST_CASE("corners, circles and outlines on a color come back from their files as they were") {
  TemporaryFolder folder;
  render::Random random(6);
  const Studio plate(render::gauge_plate(random));
  const Point2 at = plate.view.parts[0].pixel;
  using Numbers = std::vector<double>;
  const Numbers left{at.x - 220, at.y + 30, 60, 120, 0}, upper{at.x - 80, at.y - 160, 60, 120, 90};
  check_same_kind(
      plate.taught("edge", 520, 400,
                   {.name = "corner",
                    .settings = {{"fit", std::string("corner")}, {"band", left}, {"second", upper}}}),
      folder / "corner.png", plate.picture);
  check_same_kind(plate.taught("edge", 520, 400,
                               {.name = "bore",
                                .settings = {{"fit", std::string("circle")},
                                             {"arc", Numbers{at.x + 40, at.y - 20, 14, 52, 0, 360}}}}),
                  folder / "circle.png", plate.picture);
  // A leaf on a blue belt: its colors lie in the settings, the silhouette in the picture.
  render::StudioView belt = render::blanks_on_belt(random, {.parts = 1, .turned = 0});
  belt.scene.pieces.resize(1);
  const Studio leaf(std::move(belt));
  check_same_kind(
      leaf.taught("outline", 220, 160, {.name = "leaf", .settings = {{"backdrop", std::string("color")}}}),
      folder / "leaf.png", leaf.picture);
  // A corner without its slopes is a corner that was not taught.
  const std::string path = folder / "broken.png";
  const auto refused = [&](const Target& target, const char* setting) {
    TeachOptions words{.name = "x", .options = target.options()};
    for (const NamedSetting& s : target.settings())
      if (s.name != setting) words.settings[s.name] = s.value;
    return error_of([&] { target_from(target.info().id, TaughtPicture(target.taught()), words); });
  };
  const Target corner = load_target(folder / "corner.png").target,
               blank = load_target(folder / "leaf.png").target;
  CHECK(contains(refused(corner, "slopes"), "teach it again"));
  // Edited so that both bands lie along one direction.
  TeachOptions turned{.name = "x", .options = corner.options()};
  for (const NamedSetting& s : corner.settings()) turned.settings[s.name] = s.value;
  turned.settings["second"] = turned.settings["band"];
  CHECK(contains(error_of([&] { target_from("edge", TaughtPicture(corner.taught()), turned); }), "parallel"));
  CHECK(contains(refused(blank, "backdrop_color"), "teach it again"));
}
