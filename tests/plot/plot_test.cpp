#include <doctest/doctest.h>

#include <cmath>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/plot/calibration_plots.hpp"
#include "heron/plot/drift_plot.hpp"
#include "heron/plot/study_plots.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

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

Mapping mapping_with(double sigma_scale) {
  Homography h;
  h << 4, 0, 400, 0, -4, 300, 0, 0, 1;
  PlaneMapping::Covariance c = PlaneMapping::Covariance::Zero();
  c(0, 0) = c(4, 4) = sigma_scale * sigma_scale;  // known best at the middle
  return PlaneMapping(h, c);
}

}  // namespace

TEST_CASE("the plot of scores shows parts, the rest, both limits and the gap") {
  const PlotSheet sheet = scores_plot(ten_pictures(), advice_of(80, 40), 50);
  REQUIRE(sheet.plots.size() == 1);
  const Plot& plot = sheet.plots[0];
  REQUIRE(plot.series.size() == 4);
  CHECK(plot.series[0].points.size() == 10);
  CHECK(plot.series[0].points[3] == Point2{4, 83});
  CHECK(plot.series[1].points[3] == Point2{4, 37});
  CHECK(plot.series[2].points[0].y == 50);
  CHECK(plot.series[3].points[0].y == 60);
  REQUIRE(plot.bands.size() == 1);
  CHECK(plot.bands[0].y.min == 40);
  CHECK(plot.bands[0].y.max == 80);
  const PlotSheet none = scores_plot(ten_pictures(), advice_of(35, 40), 50);
  CHECK(none.plots[0].bands.empty());
  CHECK(contains(none.plots[0].title, "no gap"));
}

TEST_CASE("a plot is written as PNG, SVG and PDF, with its titles, units and data") {
  const support::TemporaryFolder folder;
  const PlotSheet sheet = scores_plot(ten_pictures(), advice_of(80, 40), 50);
  save_plot(folder / "scores.png", sheet);
  const Picture drawn = load_picture(folder / "scores.png");
  CHECK(drawn.width() == 1280);
  CHECK(drawn.height() == 800);
  save_plot(folder / "scores.svg", sheet, true);
  const std::string svg = read_file(folder / "scores.svg");
  for (const char* words :
       {"score, 0 to 100", "number of the picture", "gap: 40.0 to 80.0", "everything else"})
    CHECK_MESSAGE(contains(svg, words), words);
  const std::string data = read_file(folder / "scores.svg.csv");
  CHECK(contains(data, "plot,series,x,y,value"));
  CHECK(contains(data, "scores of 10 pictures,parts,4,83,"));
  save_plot(folder / "scores.pdf", sheet);
  CHECK(read_file(folder / "scores.pdf").starts_with("%PDF"));
  CHECK(contains(error_of([&] { save_plot(folder / "scores.bmp", sheet); }), ".png, .svg or .pdf"));
  CHECK(error_of([&] { save_plot(folder / "none/scores.png", sheet); }) != "");
  // Nothing, one point, and words that a script would take for its own.
  save_plot(folder / "empty.png", scores_plot({}, {}, 50));
  save_plot(folder / "odd.svg",
            {.title = "it's $1_{2}^3 \"x\" `y` \\n",
             .plots = {{.title = "a'b", .series = {{"l'abel", PlotMark::line, {{1, NAN}}}}}}});
  CHECK(contains(read_file(folder / "odd.svg"), "$1_{2}^3"));
}

TEST_CASE("a sigma map grows away from where the mapping is known, and is blank past the horizon") {
  const PlotSheet sheet = sigma_plot(800, 600, mapping_with(1e-3), {{{400, 300}, {0, 0}}});
  REQUIRE(sheet.plots[0].map);
  const PlotMap& map = *sheet.plots[0].map;
  const auto at = [&](double x, double y) {
    const auto column =
        static_cast<int>(std::lround((x - map.x.min) / (map.x.max - map.x.min) * (map.columns - 1)));
    const auto row =
        static_cast<int>(std::lround((y - map.y.min) / (map.y.max - map.y.min) * (map.rows - 1)));
    return map.values[static_cast<size_t>(row * map.columns + column)];
  };
  CHECK(at(420, 300) < at(600, 300));
  CHECK(at(600, 300) < at(790, 300));
  Homography oblique;
  oblique << 4, 0, 160, 0, -4, 100, 0, 2e-2, 1;
  const PlotSheet past = sigma_plot(320, 240, PlaneMapping(oblique), {});
  CHECK_FALSE(past.plots[0].map->contours);
  CHECK(contains(past.plots[0].title, "not known"));  // it has no covariance
  const support::TemporaryFolder folder;
  save_plot(folder / "sigma.png", sheet);
  save_plot(folder / "past.png", past);
  CHECK(load_picture(folder / "sigma.png").width() == 1280);
}

TEST_CASE("residuals are counted beside a normal distribution of their scatter") {
  std::vector<MappedPoint> points;
  for (int i = 0; i < 40; ++i)
    points.push_back({{20.0 * i, 10.0 * i}, {}, {0.1 * std::sin(i), 0.1 * std::cos(1.7 * i)}});
  const PlotSheet sheet = residual_plot(800, 400, points);
  REQUIRE(sheet.plots.size() == 3);
  double counted = 0;
  for (const Point2& bin : sheet.plots[2].series[0].points) counted += bin.y;
  CHECK(counted == 80);
  CHECK(residual_plot(800, 400, {}).plots.size() == 3);
  const support::TemporaryFolder folder;
  save_plot(folder / "residuals.png", sheet);
  save_plot(folder / "none.png", residual_plot(800, 400, {}));
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
  const PlotSheet sheet = field_plot(field, 800, 600);
  REQUIRE(sheet.plots.size() == 2);
  REQUIRE(sheet.plots[0].map);
  CHECK(sheet.plots[0].map->values[0] == doctest::Approx(70));
  CHECK(std::isnan(sheet.plots[0].map->values[1]));  // never visited
  CHECK(sheet.plots[0].y.reversed);
  CHECK(sheet.plots[1].series[0].points.size() == 2);  // bands in which something was found
  CHECK(field_plot(map_field({}, 640, 480), 640, 480).plots[1].series[0].points.empty());
}

TEST_CASE("a trend has its own plot, solid where it changes, and none is said to be none") {
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
  const PlotSheet sheet = trends_plot(trends, pictures.size());
  REQUIRE(sheet.plots.size() == 3);
  CHECK(sheet.plots[0].series[1].mark == PlotMark::dashed_line);  // the score stays
  CHECK(sheet.plots[1].series[1].mark == PlotMark::line);         // the contrast falls
  CHECK(sheet.plots[1].y.label == "contrast, grey levels");
  CHECK(trends_plot({}, 0).title.starts_with("no trend"));
}

TEST_CASE("drift: what is farthest off comes first, with its usual range; what is learned has none") {
  QuantityCourse score{.name = "score", .memory = 5, .usual = 98, .limit = 1};
  QuantityCourse bright{.name = "brightness", .memory = 5, .usual = 150, .limit = 3};
  QuantityCourse time{.name = "elapsed_ms"};
  for (int i = 1; i <= 5000; ++i) {
    score.values.push_back({static_cast<double>(i), 98 + 0.1 * (i % 3)});
    bright.values.push_back({static_cast<double>(i), i > 4000 ? 140.0 : 150.0});
    time.values.push_back({static_cast<double>(i), 40});
  }
  const PlotSheet sheet = drift_plot({time, score, bright, {.name = "glare"}});
  REQUIRE(sheet.plots.size() == 3);  // glare has no values
  CHECK(sheet.plots[0].title == "brightness 140, usual 150 ± 3: drifts");
  CHECK(sheet.plots[1].title == "score 98.13, usual 98 ± 1");
  CHECK(sheet.plots[2].title == "elapsed_ms 40, usual not known");
  REQUIRE(sheet.plots[0].bands.size() == 1);
  CHECK(sheet.plots[0].bands[0].y.min == 147);
  CHECK(sheet.plots[2].bands.empty());
  const auto& values = sheet.plots[0].series[0].points;
  CHECK(values.size() <= 2000);
  CHECK(values.back().x == 5000);
  CHECK(sheet.plots[0].series[1].points.back().y == doctest::Approx(140));
  const std::vector<QuantityCourse> many(12, score);
  CHECK(drift_plot(many).plots.size() == 9);
  CHECK(contains(drift_plot(many).title, "not drawn: score, score, score"));
  CHECK(contains(sheet.title, "shaded"));
  CHECK_FALSE(contains(drift_plot({time}).title, "shaded"));
  CHECK(drift_plot({}).plots.size() == 1);
  support::TemporaryFolder folder;
  for (const PlotSheet& drawn : {sheet, drift_plot(many), drift_plot({})})
    CHECK_NOTHROW(save_plot(folder / "drift.png", drawn));
}
