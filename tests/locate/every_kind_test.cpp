// What holds for every kind of target: where the picture goes, finds go; light, threads and repeats do not
// matter.
#include <doctest/doctest.h>
#include <tbb/global_control.h>

#include "heron/locate/target.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::error_of;

namespace {

using Settings = std::map<std::string, SettingValue>;
using Numbers = std::vector<double>;

/// A kind with an easy view that it is taught from and found in.
struct Case {
  std::string name, kind;
  render::StudioView view;
  Picture picture;
  Region region;
  Settings settings = {};
  bool stands = false;  ///< its bands stand still in the picture: what moves is the part, within them

  Target taught() const {
    const Image<uint8_t> grey = grey_levels(picture);
    TeachingPicture from{.grey = grey, .region = region};
    if (const auto* color = std::get_if<Image<Rgb>>(&picture.pixels)) from.color = *color;
    TeachOptions words{.name = name, .settings = settings};
    if (kind == "outline" || kind == "pattern" || kind == "border") words.origin = view.parts[0].pixel;
    return teach_target(kind, from, words);
  }
};

Case case_of(const std::string& name) {
  render::Random random(77);
  const render::StudioFilling one{.parts = 1, .turned = 0};
  Case c{.name = name, .kind = name, .view = {}, .picture = {}, .region = {}};
  if (name == "color") c.view = render::glazed_tiles(random, one);
  if (name == "outline" || name == "pattern") c.view = render::leaf_blanks(random, one);
  if (name == "marker") c.view = render::door_frame(random, one);
  if (name == "border") c.view = render::floor_panel(random, one);
  if (name == "edge" || name == "corner" || name == "circle") c.view = render::gauge_plate(random, one);
  if (name == "stripe") c.view = render::floor_stripe(random, one);
  c.picture = render::picture_of(c.view, random);
  const Point2 at = c.view.parts[0].pixel;
  const auto around = [&](double w, double h) { return Region::rectangle(at, w, h, {}); };
  c.region = name == "color"    ? around(24, 24)
             : name == "marker" ? around(96, 96)
             : name == "stripe" ? around(200, 200)
                                : around(220, 160);
  if (name == "border") {
    Numbers corners;
    for (const Point2& p : c.view.parts[0].corners) corners.push_back(p.x), corners.push_back(p.y);
    c.region = around(520, 400), c.settings = {{"polyline", corners}};
  }
  const Numbers left{at.x - 220, at.y + 30, 60, 120, 0}, upper{at.x - 80, at.y - 160, 60, 120, 90},
      upper_right{at.x + 120, at.y - 160, 60, 120, 90};
  if (name == "edge" || name == "corner" || name == "circle") {
    c.kind = "edge", c.region = around(520, 400), c.stands = true;
    if (name == "edge") c.settings = {{"band", left}, {"second", upper}, {"third", upper_right}};
    if (name == "corner") c.settings = {{"fit", std::string("corner")}, {"band", left}, {"second", upper}};
    if (name == "circle")
      c.settings = {{"fit", std::string("circle")}, {"arc", Numbers{at.x + 40, at.y - 20, 14, 52, 0, 360}}};
  }
  if (name == "stripe") c.settings = {{"ahead", 511.5}, {"top", 100.0}, {"bottom", 900.0}}, c.stands = true;
  return c;
}

const std::vector<std::string> names{"pattern", "outline", "color",  "marker", "border",
                                     "edge",    "corner",  "circle", "stripe"};

template <class Pixel>
Image<Pixel> moved(const Image<Pixel>& picture, int dx, int dy) {
  Image<Pixel> result(picture.width(), picture.height());
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x)
      result(x, y) =
          picture(std::clamp(x - dx, 0, picture.width() - 1), std::clamp(y - dy, 0, picture.height() - 1));
  return result;
}

/// The picture with every pixel changed by `change`, a function of channel value to channel value.
template <class Change>
Picture changed(const Picture& picture, Change change) {
  Picture result = picture;
  if (auto* color = std::get_if<Image<Rgb>>(&result.pixels)) {
    for (int y = 0; y < color->height(); ++y)
      for (int x = 0; x < color->width(); ++x) {
        Rgb& p = (*color)(x, y);
        p = {change(p.r), change(p.g), change(p.b)};
      }
  } else {
    auto& grey = std::get<Image<uint8_t>>(result.pixels);
    for (int y = 0; y < grey.height(); ++y)
      for (int x = 0; x < grey.width(); ++x) grey(x, y) = change(grey(x, y));
  }
  return result;
}

Detection the_one(const Target& target, const Picture& picture) {
  const FindResult found = find(target, prepare(picture, target), target.options(), Explain::never);
  CAPTURE(target.name());
  REQUIRE(found.detections.size() >= 1);
  return found.detections[0];
}

}  // namespace

TEST_CASE("where the picture moves by whole pixels, every find moves along" *
          doctest::test_suite("many pictures")) {
  for (const std::string& name : names) {
    CAPTURE(name);
    const Case c = case_of(name);
    const Target target = c.taught();
    const Detection before = the_one(target, c.picture);
    for (const auto& [dx, dy] : {std::pair{6, 0}, {0, -5}, {-7, 4}}) {
      if (sanitized && dx == 0) continue;
      Picture shifted = c.picture;
      std::visit(
          [&, mx = dx, my = dy](auto& pixels) {
            if constexpr (requires { moved(pixels, mx, my); }) pixels = moved(pixels, mx, my);
          },
          shifted.pixels);
      const Detection after = the_one(target, shifted);
      const double slack = c.stands ? 0.05 : 0.02;
      CHECK(std::abs(after.x - before.x -
                     (name == "stripe" ? dx + std::tan(before.angle.radians()) * dy : dx)) < slack);
      if (name != "stripe") CHECK(std::abs(after.y - before.y - dy) < slack);
      CHECK(std::abs(after.score - before.score) < 3);
      if (before.has_angle) CHECK(std::abs((after.angle - before.angle).wrapped().degrees()) < 0.1);
    }
  }
}

TEST_CASE("dimmer light moves nothing" * doctest::test_suite("many pictures")) {
  for (const std::string& name : names) {
    CAPTURE(name);
    const Case c = case_of(name);
    const Target target = c.taught();
    const Detection before = the_one(target, c.picture);
    for (const double light : {0.8, 0.65}) {
      const Detection after = the_one(target, changed(c.picture, [&](uint8_t v) {
                                        return static_cast<uint8_t>(std::lround(light * v));
                                      }));
      CHECK(std::abs(after.x - before.x) < 0.05);
      CHECK(std::abs(after.y - before.y) < 0.05);
      CHECK(after.score > before.score - 6);
    }
  }
}

TEST_CASE("one thread or two, once or twice: the same bits") {
  for (const std::string& name : names) {
    CAPTURE(name);
    const Case c = case_of(name);
    const Target target = c.taught();
    const auto run = [&](size_t threads) {
      const tbb::global_control limit(tbb::global_control::max_allowed_parallelism, threads);
      return the_one(target, c.picture);
    };
    const Detection one = run(1), two = run(2), again = run(2);
    CHECK(one.x == two.x);
    CHECK(one.y == two.y);
    CHECK(one.score == two.score);
    CHECK(one.angle == two.angle);
    CHECK(one.sigma.x == two.sigma.x);
    CHECK(two.x == again.x);
    REQUIRE(one.measurements.size() == two.measurements.size());
    for (size_t i = 0; i < one.measurements.size(); ++i)
      CHECK(one.measurements[i].value == two.measurements[i].value);
  }
}

TEST_CASE("pictures of any size and content end in an answer" * doctest::test_suite("many pictures")) {
  for (const std::string& name : names) {
    CAPTURE(name);
    const Case c = case_of(name);
    const Target target = c.taught();
    const bool color = std::holds_alternative<Image<Rgb>>(c.picture.pixels);
    const auto tried = [&](int width, int height, int sort) {
      render::Random random(3);
      const auto value = [&](int x, int y) {
        const int v = sort == 0   ? 0
                      : sort == 1 ? 255
                      : sort == 2 ? random.whole(0, 255)
                                  : (x / 9 + y / 9) % 2 * 255;
        return static_cast<uint8_t>(v);
      };
      Picture picture;
      if (color) {
        Image<Rgb> pixels(width, height);
        for (int y = 0; y < height; ++y)
          for (int x = 0; x < width; ++x) {
            const uint8_t v = value(x, y);
            pixels(x, y) = {v, v, v};
          }
        picture.pixels = std::move(pixels);
      } else {
        Image<uint8_t> pixels(width, height);
        for (int y = 0; y < height; ++y)
          for (int x = 0; x < width; ++x) pixels(x, y) = value(x, y);
        picture.pixels = std::move(pixels);
      }
      // Bands that stand outside are an error in words; everything else is an answer.
      std::string told;
      try {
        const FindResult found = find(target, prepare(picture, target));
        CHECK(found.complete);
        for (const Detection& s : found.detections) CHECK(std::isfinite(s.x + s.y + s.score));
        for (const Miss& m : found.misses) CHECK(std::isfinite(m.x + m.y));
      } catch (const Error& error) {
        told = error.what();
        CHECK(told.size() > 20);
        CHECK(c.kind == "edge");
      }
    };
    tried(1, 1, 0), tried(1, 40, 1), tried(64, 3, 2), tried(33, 47, 3);
    for (const int sort : {0, 1, 2, 3})
      if (!sanitized || sort == 2) tried(640, 512, sort);
  }
}

TEST_CASE("numbers that are none, endless or absurd are refused in every setting, and nothing hangs" *
          doctest::test_suite("many pictures")) {
  const double nan = std::nan(""), endless = std::numeric_limits<double>::infinity();
  for (const std::string name : {"outline", "color", "marker", "border", "edge", "stripe"}) {
    CAPTURE(name);
    const Case c = case_of(name);
    const Target good = c.taught();
    for (const NamedSetting& setting : good.settings()) {
      CAPTURE(setting.name);
      std::vector<SettingValue> bad;
      if (std::holds_alternative<double>(setting.value)) bad = {nan, endless, -endless, -1e300, 1e300};
      if (std::holds_alternative<int>(setting.value)) bad = {-2000000000, 2000000000};
      if (std::holds_alternative<std::string>(setting.value)) bad = {std::string("perhaps"), std::string()};
      if (const auto* row = std::get_if<Numbers>(&setting.value)) {
        bad.push_back(Numbers{nan});
        Numbers longer = *row;
        longer.insert(longer.end(), 7, endless);
        bad.push_back(longer);
      }
      for (const SettingValue& value : bad) {
        Case broken = c;
        broken.settings[setting.name] = value;
        // Refused in words, or harmless: an unset limit, a setting that teaching learns anew.
        const std::string told = error_of([&] {
          const Target target = broken.taught();
          for (const Detection& s : find(target, prepare(c.picture, target)).detections)
            CHECK(std::isfinite(s.x + s.y));
        });
        if (!told.empty()) CHECK(told.size() > 10);
        // A word is never taken for another.
        if (std::holds_alternative<std::string>(setting.value)) CHECK(!told.empty());
      }
    }
  }
}
