#include <doctest/doctest.h>

#include "heron/draw/overlay.hpp"
#include "heron/draw/study_picture.hpp"

using namespace heron;

namespace {

/// Ten pictures: parts at 80 and above, everything else at 40 and below.
std::vector<StudiedPicture> ten_pictures() {
  std::vector<StudiedPicture> pictures;
  for (int i = 0; i < 10; ++i) {
    StudiedPicture p;
    p.finds.push_back({100, 100, {}, 1, 80.0 + i, 40, true, true});
    p.finds.push_back({200, 100, {}, 1, 40.0 - i, 40, false, false});
    pictures.push_back(p);
  }
  return pictures;
}

StudyAdvice advice_of(double worst, double best) {
  StudyAdvice a;
  a.worst_right = worst, a.best_wrong = best, a.separated = worst > best, a.right = 10;
  a.options.min_score = 60;
  return a;
}

/// How many pixels of a column strip differ between two pictures, rows `from` to `to`.
int differing(const Image<Rgb>& a, const Image<Rgb>& b, int from, int to) {
  int count = 0;
  for (int y = from; y < to; ++y)
    for (int x = 80; x < 1240; ++x) count += a(x, y) != b(x, y);
  return count;
}

Image<Rgb> even(int width, int height, Rgb color) {
  Image<Rgb> picture(width, height);
  for (int y = 0; y < height; ++y) std::fill_n(picture.row(y), width, color);
  return picture;
}

}  // namespace

TEST_CASE("the plot of scores shows parts, the rest, the limits and the gap, each where it belongs") {
  const Image<Rgb> plot = draw_scores(ten_pictures(), advice_of(80, 40), 50);
  CHECK(plot.width() == 1280);
  CHECK(plot.height() == 800);
  // The gap's band: between 80 and 40 the ground is another than above and below. Scores run from 740 (0) up
  // to 60.
  const auto ground = [&](double score) { return plot(75, static_cast<int>(740 - 6.8 * score)); };
  CHECK(ground(70) == ground(55));
  CHECK(ground(70) != ground(90));
  CHECK(ground(30) == ground(90));
  // Parts higher up leave their places.
  std::vector<StudiedPicture> better = ten_pictures();
  for (StudiedPicture& p : better) p.finds[0].score = 95;
  const Image<Rgb> higher = draw_scores(better, advice_of(80, 40), 50);
  CHECK(differing(plot, higher, 60, 205) > 300);
  CHECK(differing(plot, higher, 480, 740) == 0);
  // The minimum score as it is moves its dashed line alone.
  const Image<Rgb> stricter = draw_scores(ten_pictures(), advice_of(80, 40), 75);
  CHECK(differing(plot, stricter, 225, 235) > 300);
  // Without a gap there is no band.
  const Image<Rgb> none = draw_scores(ten_pictures(), advice_of(35, 40), 50);
  CHECK(none(75, static_cast<int>(740 - 6.8 * 55)) == none(75, static_cast<int>(740 - 6.8 * 90)));
}

TEST_CASE("an empty study is drawn, too") {
  const Image<Rgb> plot = draw_scores({}, {}, 50);
  CHECK(plot.width() == 1280);
  CHECK(draw_sheet({}).width() == 1280);
}

TEST_CASE("a sheet holds every picture at half its width, whatever the sizes") {
  std::vector<SheetEntry> entries;
  entries.push_back({even(1280, 1024, {200, 10, 10}), "first"});
  entries.push_back({even(640, 512, {10, 200, 10}), "second"});
  entries.push_back({even(100, 50, {10, 10, 200}), "a small one"});
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

TEST_CASE("scores over the field of view: where things were found, and from the centre outwards") {
  std::vector<StudiedPicture> pictures(3);
  const auto put = [&](size_t picture, double x, double y, double score, bool right) {
    StudiedFind find;
    find.x = x, find.y = y, find.score = score, find.right = right;
    pictures[picture].finds.push_back(find);
  };
  put(0, 20, 20, 60, true);        // the corner
  put(1, 25, 30, 80, true);        // the same place
  put(1, 399.5, 299.5, 99, true);  // the centre
  put(2, 780, 300, 10, false);     // no part
  const FieldMap field = map_field(pictures, 800, 600);
  CHECK(field.visited() == 2);
  CHECK(field.places[0].count == 2);
  CHECK(field.places[0].mean == doctest::Approx(70));
  CHECK(field.places[0].lowest == 60);
  CHECK(field.bands[0].count == 1);
  CHECK(field.bands[3].mean == doctest::Approx(70));
  const Image<Rgb> drawn = draw_field(field, 800, 600);
  CHECK(drawn.width() == 1280);
  CHECK(draw_field(map_field({}, 640, 480), 640, 480).height() == 800);
}

TEST_CASE("trends are drawn a plot each, what changes by a stronger line, and none is said to be none") {
  std::vector<StudiedPicture> pictures(12);
  for (size_t i = 0; i < pictures.size(); ++i) {
    StudiedFind find{
        .x = 10, .y = 10, .angle = {}, .score = 90, .contrast = 80 - 4.0 * static_cast<double>(i)};
    find.right = true;
    find.measurements = {{"quality.rim", 95}, {"quality.total", 90}, {"diameter", 30}};
    pictures[i].finds.push_back(find);
  }
  const auto trends = trends_of(pictures);
  REQUIRE(trends.size() == 3);  // score, contrast, rim
  const Image<Rgb> drawn = draw_trends(trends, pictures.size());
  CHECK(drawn.width() == 1280);
  CHECK(drawn.height() == 800);
  const auto yellow = [&](int x0, int x1, int y0, int y1) {
    int count = 0;
    for (int y = y0; y < y1; ++y)
      for (int x = x0; x < x1; ++x)
        count += drawn(x, y).r > 200 && drawn(x, y).b < 140 && drawn(x, y).g > 180;
    return count;
  };
  // The second plot, upper right, falls: solid; the first is level: dashed, and its words are white.
  CHECK(yellow(700, 1270, 80, 412) > 1.3 * yellow(60, 630, 80, 412));
  CHECK(yellow(60, 630, 80, 412) > 100);
  CHECK(draw_trends({}, 0).width() == 1280);
  CHECK(draw_trends(trends_of(std::vector<StudiedPicture>(1)), 1).height() == 800);
}
