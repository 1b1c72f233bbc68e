#include <doctest/doctest.h>

#include "heron/base/error.hpp"
#include "heron/draw/board_sheet.hpp"
#include "heron/draw/overlay.hpp"

using namespace heron;

namespace {

Image<uint8_t> flat(uint8_t grey, int width = 320, int height = 240) {
  Image<uint8_t> image(width, height);
  for (int y = 0; y < height; ++y) std::fill_n(image.row(y), width, grey);
  return image;
}

/// A detection whose edges form a square of 60 pixels; the left side was not seen.
Report square_report() {
  ReportedPart part;
  Detection& s = part.detection;
  s.target = "square", s.x = 160, s.y = 120, s.score = 75;
  for (int i = -30; i <= 30; ++i) {
    s.edges.push_back({{160.0 + i, 90}, {0, 1}, 0, 1});
    s.edges.push_back({{160.0 + i, 150}, {0, -1}, 0, 1});
    s.edges.push_back({{190, 120.0 + i}, {-1, 0}, 0, 1});
    s.edges.push_back({{130, 120.0 + i}, {1, 0}, 0, 0});
  }
  Report report;
  report.parts.push_back(part);
  return report;
}

int luma(Rgb p) { return (299 * p.r + 587 * p.g + 114 * p.b) / 1000; }

int changed(const Image<Rgb>& drawn, const Image<uint8_t>& picture, Box box) {
  int n = 0;
  for (int y = static_cast<int>(box.y); y < box.y + box.height; ++y)
    for (int x = static_cast<int>(box.x); x < box.x + box.width; ++x) {
      const uint8_t g = picture(x, y);
      n += !(drawn(x, y) == Rgb{g, g, g});
    }
  return n;
}

/// Brightest and darkest pixel of a box.
std::pair<int, int> extremes(const Image<Rgb>& drawn, Box box) {
  int low = 255, high = 0;
  for (int y = static_cast<int>(box.y); y < box.y + box.height; ++y)
    for (int x = static_cast<int>(box.x); x < box.x + box.width; ++x) {
      low = std::min(low, luma(drawn(x, y)));
      high = std::max(high, luma(drawn(x, y)));
    }
  return {low, high};
}

}  // namespace

TEST_CASE("an overlay reads on dark, grey and bright pictures: bright lines with a dark rim") {
  for (const uint8_t grey : {0, 60, 128, 200, 255}) {
    CAPTURE(grey);
    const Image<uint8_t> picture = flat(grey);
    const Image<Rgb> drawn = draw_report(picture, square_report());
    CHECK(drawn.width() == 320);
    CHECK(drawn.height() == 240);
    const auto [low, high] = extremes(drawn, {150, 86, 20, 9});  // across the seen top side
    CHECK(high - low > 80);  // enough for a line of two pixels to stand out
    const auto [low2, high2] = extremes(drawn, {126, 100, 9, 40});  // along the side that was not seen
    CHECK(high2 - low2 > 80);
  }
}

TEST_CASE("seen and unseen edges differ in shape, not in color alone") {
  const Image<uint8_t> picture = flat(100);
  const Image<Rgb> drawn = draw_report(picture, square_report());
  // A seen side is drawn without a gap; an unseen one is crosses with the picture between them.
  int gaps_seen = 0, gaps_unseen = 0;
  for (int i = -20; i <= 20; ++i) {
    gaps_seen += drawn(160 + i, 150) == Rgb{100, 100, 100};
    gaps_unseen += drawn(130, 120 + i) == Rgb{100, 100, 100};
  }
  CHECK(gaps_seen == 0);
  CHECK(gaps_unseen >= 1);
}

TEST_CASE("misses, the search region and the count are drawn; nothing else is touched") {
  const Image<uint8_t> picture = flat(100);
  Report report;
  const Image<Rgb> empty = draw_report(picture, report);
  CHECK(changed(empty, picture, {0, 0, 200, 40}) > 100);  // "0 found"
  CHECK(changed(empty, picture, {0, 60, 320, 180}) == 0);
  report.misses.push_back({100, 150, {}, 1, 40, {{"score", 40, "at least 60"}}});
  const Box region{200, 60, 80, 90};
  const Image<Rgb> drawn = draw_report(picture, report, &region);
  CHECK(changed(drawn, picture, {85, 135, 30, 30}) > 30);
  CHECK(changed(drawn, picture, {198, 100, 5, 20}) > 20);
  CHECK(changed(drawn, picture, {220, 80, 40, 40}) == 0);  // inside the region
}

TEST_CASE("labels stay on the picture, however near to its border a part lies") {
  Report report = square_report();
  for (EdgeMatch& e : report.parts[0].detection.edges) e.place += Point2{150, 110};
  report.parts[0].detection.x += 150, report.parts[0].detection.y += 110;
  report.parts[0].robot = RobotPose{};
  const Image<uint8_t> picture = flat(100);
  CHECK(changed(draw_report(picture, report), picture, {180, 200, 140, 40}) > 1000);
}

TEST_CASE("a target is drawn enlarged, with what does not count hatched") {
  Image<uint8_t> picture = flat(40, 160, 120);
  for (int y = 40; y < 80; ++y)
    for (int x = 50; x < 110; ++x) picture(x, y) = 200;
  Region region = Region::rectangle({30, 25, 100, 70});
  region.subtract(Region::rectangle({30, 25, 10, 10}));
  const PatternTarget target = teach_pattern(picture, region);
  const Image<Rgb> drawn = draw_target(target);
  CHECK(drawn.width() == 800);
  CHECK(drawn.height() == 560);
  CHECK(drawn(30, 60) != Rgb{40, 40, 40});
  CHECK(drawn(780, 540) == Rgb{40, 40, 40});
}

TEST_CASE("residuals are drawn enlarged by a round factor") {
  std::vector<BoardPoint> points;
  const BoardShape shape{.columns = 4, .rows = 4, .pitch_mm = 10};
  for (int j = 0; j < 4; ++j)
    for (int i = 0; i < 4; ++i)
      points.push_back({i, j, {40.0 + 50 * i + 0.02 * ((i * 3 + j) % 4), 200.0 - 45 * j}});
  const PlaneCalibration c = calibrate_plane(points, shape, 0, 320, 240);
  const Image<uint8_t> picture = flat(150);
  const Image<Rgb> drawn = draw_residuals(picture, c.points, c.mapping);
  for (const BoardPoint& p : points)
    CHECK(changed(drawn, picture, {p.pixel.x - 6, p.pixel.y - 6, 12, 12}) > 10);
}

TEST_CASE("board sheets: three forms, true to size, and errors for what cannot be printed") {
  const BoardShape shape{.kind = BoardKind::checker, .columns = 7, .rows = 5, .pitch_mm = 20};
  CHECK(board_sheet(shape, ".pdf").starts_with("%PDF"));
  CHECK(board_sheet(shape, ".png").substr(1, 3) == "PNG");
  const std::string svg = board_sheet(shape, ".svg");
  // 6 pitches and twice the margin of 1.9 pitches = 196 mm = 555.59 points.
  CHECK(svg.find("width=\"555.59") != std::string::npos);
  CHECK_THROWS_WITH_AS(board_sheet(shape, ".bmp"), doctest::Contains(".pdf, .svg or .png"), Error);
  CHECK_THROWS_WITH_AS(board_sheet({.columns = 200, .rows = 200, .pitch_mm = 100}, ".pdf"),
                       doctest::Contains("3000 mm"), Error);
  CHECK_THROWS_AS(board_sheet(shape, ".png", 0), Error);
  CHECK_THROWS_AS(board_sheet({.columns = 100, .rows = 100, .pitch_mm = 25}, ".png", 1200), Error);
}
