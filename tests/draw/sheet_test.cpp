#include <doctest/doctest.h>

#include "heron/draw/overlay.hpp"
#include "heron/draw/sheet.hpp"

using namespace heron;

namespace {

Image<Rgb> even(int width, int height, Rgb color) {
  Image<Rgb> picture(width, height);
  for (int y = 0; y < height; ++y) std::fill_n(picture.row(y), width, color);
  return picture;
}

}  // namespace

TEST_CASE("a sheet holds every picture at half its width, whatever the sizes") {
  std::vector<SheetEntry> entries;
  entries.push_back({even(1280, 1024, {200, 10, 10}), "first"});
  entries.push_back({even(640, 512, {10, 200, 10}), "second"});
  entries.push_back({even(100, 50, {10, 10, 200}), "a small one"});
  CHECK(draw_sheet({}).width() == 1280);
  const Image<Rgb> sheet = draw_sheet(entries);
  CHECK(sheet.width() == 1280);
  CHECK(sheet.height() == 2 * (512 + 32));
  CHECK(sheet(320, 300) == Rgb{200, 10, 10});
  CHECK(sheet(960, 300) == Rgb{10, 200, 10});
  CHECK(sheet(50, 538 + 26 + 20) == Rgb{10, 10, 200});
  CHECK(sheet(600, 538 + 26 + 20) == Rgb{30, 30, 30});
}

TEST_CASE("a teaching report is written under the taught edges") {
  Image<uint8_t> picture(160, 120);
  for (int y = 0; y < 120; ++y)
    for (int x = 0; x < 160; ++x) picture(x, y) = x > 50 && x < 110 && y > 40 && y < 80 ? 200 : 40;
  const PatternTarget target = teach_pattern(picture, Region::rectangle({30, 20, 100, 80}));
  const TeachingReport report = report_teaching(target);
  CHECK(report.turns == 2);
  const Image<Rgb> plain = draw_target(target), with = draw_target(target, &report);
  REQUIRE(plain.height() == with.height());
  int above = 0, below = 0;
  for (int y = 0; y < plain.height(); ++y)
    for (int x = 0; x < plain.width(); ++x)
      (y < plain.height() - 80 ? above : below) += plain(x, y) != with(x, y);
  CHECK(above == 0);
  CHECK(below > 3000);
}
