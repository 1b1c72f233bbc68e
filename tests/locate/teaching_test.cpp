#include "heron/locate/teaching.hpp"

#include <doctest/doctest.h>
#include <tbb/task_arena.h>

#include <numeric>
#include <thread>

#include "heron/base/work.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/study.hpp"
#include "heron/render/tray_station.hpp"
#include "locate/edge_samples/edge_profile.hpp"
#include "locate/pattern/edges/edge_sums.hpp"
#include "locate/pattern/grey/grey_sums.hpp"
#include "locate/pattern/model/pattern_model.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr int shot_side = 420;

CameraModel shot_camera() {
  return camera_above(600,
                      {.fx = 2400, .fy = 2400, .cx = 0.5 * (shot_side - 1), .cy = 0.5 * (shot_side - 1)});
}
Point2 shot_pixel(Point2 table) { return shot_camera().project({table.x, table.y, 0}); }

Image<uint8_t> leaf_shot(std::vector<Piece> pieces, uint64_t seed, double noise = 2, Point2 falls = {},
                         double blur_px = 0.8, double texture = 0, double light = 1) {
  Scene scene;
  scene.texture = texture, scene.texture_seed = seed;
  scene.blur_px = blur_px;
  scene.light.level = light, scene.light.gradient = falls;
  scene.camera = shot_camera();
  scene.width = scene.height = shot_side;
  scene.pieces = std::move(pieces);
  Random random(seed);
  return expose(exact_picture(scene), {.sigma = noise}, random);
}

std::vector<Piece> leaf_and(const Pose2& pose, const std::vector<Piece>& more) {
  std::vector<Piece> pieces = tile_pieces("leaf", pose, 0.62);
  pieces.insert(pieces.end(), more.begin(), more.end());
  return pieces;
}

const Region& whole_tile() {
  static const Region region = Region::rectangle(shot_pixel({}), 204, 152, {});
  return region;
}

const PatternTarget& whole_leaf() {
  static const PatternTarget target =
      teach_pattern(leaf_shot(leaf_and({}, {}), 1), whole_tile(), {.name = "leaf"});
  return target;
}

/// Share of the edges that lie within a radius of a point of the tile, in mm.
double share_near(const PatternTarget& target, Point2 tile_mm, double radius_mm) {
  const Point2 at = shot_pixel(tile_mm) - shot_pixel({});
  size_t near = 0;
  for (const TaughtEdge& e : target.edges()) near += distance(e.place, at) < 4 * radius_mm;
  return static_cast<double>(near) / static_cast<double>(target.edges().size());
}

}  // namespace

TEST_CASE("the kernels of the fits agree with their plain twins") {
  const Image<uint8_t> picture = leaf_shot(leaf_and({2, 1, 33_deg}, {}), 2);
  const EdgeColumns& edges = whole_leaf().model().columns()[0];
  for (const bool falling : {false, true})
    for (const Point2 origin : {shot_pixel({2, 1}) + Point2{0.3, -0.4}, Point2{30, 50}, Point2{-40, 400}}) {
      const EdgeScan scan{origin, -33_deg, 1, 3, 8, falling};
      EdgeSamples fast, plain;
      sample_edges(picture, edges, scan, fast);
      sample_edges_plain(picture, edges, scan, plain);
      size_t met = 0, differ = 0;
      for (size_t i = 0; i < edges.count; ++i) {
        met += plain.contrast[i] > 0;
        if ((fast.contrast[i] > 0) != (plain.contrast[i] > 0) ||
            (plain.contrast[i] > 0 && (std::abs(fast.offset[i] - plain.offset[i]) > 2e-3 ||
                                       std::abs(fast.cosine[i] - plain.cosine[i]) > 2e-3)))
          ++differ;
      }
      // Two rises of the same height may be told apart by rounding alone.
      CHECK(differ <= 2 + met / 200);

      const EdgeSums sums = edge_sums(edges, plain, scan.scale, 1.5),
                     sums_plain = edge_sums_plain(edges, plain, scan.scale, 1.5);
      CHECK(sums.aligned == sums_plain.aligned);
      CHECK(sums.weights == doctest::Approx(sums_plain.weights).epsilon(1e-4));
      CHECK(sums.psi_derivative_sum == doctest::Approx(sums_plain.psi_derivative_sum).epsilon(1e-3));
      for (size_t k = 0; k < sums.products.size(); ++k)
        CHECK(std::abs(sums.products[k] - sums_plain.products[k]) <= 1e-5 * sums_plain.products.back());
      const EdgeStep step{0.1, -0.2, 1e-3, 2e-3};
      EdgesMatched matched, matched_plain;
      CHECK(match_edges(edges, plain, scan.scale, step, matched) ==
            doctest::Approx(match_edges_plain(edges, plain, scan.scale, step, matched_plain)).epsilon(1e-4));
      for (size_t i = 0; i < edges.count; ++i) {
        REQUIRE(std::abs(matched.offsets[i] - matched_plain.offsets[i]) < 1e-3f);
        REQUIRE(std::abs(matched.weights[i] - matched_plain.weights[i]) < 1e-3f);
      }
      EdgePulls contributions, pulls_plain;
      edge_contributions(edges, plain, matched_plain, scan.scale, 1.5, contributions);
      edge_contributions_plain(edges, plain, matched_plain, scan.scale, 1.5, pulls_plain);
      REQUIRE(contributions.size() == pulls_plain.size());
      for (size_t i = 0; i < contributions.size(); ++i)
        REQUIRE((contributions[i] - pulls_plain[i]).norm() < 1e-3f * (1 + pulls_plain[i].norm()));
    }
  std::vector<float> seen(edges.count, 1.0f);
  for (size_t i = 0; i < seen.size(); ++i)
    if (edges.x[i] < 0) seen[i] = 0;
  const Similarity2 pose{shot_pixel({2, 1}).x, shot_pixel({2, 1}).y, -33_deg, 1.02};
  GreySamples fast, plain;
  collect_grey_samples(picture, *whole_leaf().model().greys(), std::vector<float>(edges.count, 1.0f), pose,
                       fast);
  CHECK(fast.count > 4000);
  const size_t all = fast.count;
  collect_grey_samples(picture, *whole_leaf().model().greys(), seen, pose, fast);
  collect_grey_samples_plain(picture, *whole_leaf().model().greys(), seen, pose, plain);
  REQUIRE(fast.count == plain.count);
  const auto sorted = [](const GreySamples& s) {
    std::vector<std::array<float, 3>> pixels(s.count);
    for (size_t i = 0; i < s.count; ++i) pixels[i] = {s.down[i], s.across[i], s.grey[i]};
    std::sort(pixels.begin(), pixels.end());
    return pixels;
  };
  CHECK(sorted(fast) == sorted(plain));
  // Some of them at first, of every part of it as many; and then the others.
  GreySamples some_first;
  collect_grey_samples(picture, *whole_leaf().model().greys(), seen, pose, some_first, {.enough = 300});
  REQUIRE(some_first.are_some);
  CHECK(static_cast<double>(some_first.count) == doctest::Approx(plain.count / 4.0).epsilon(0.1));
  const auto mean_row = [](const GreySamples& s) {
    const auto count = static_cast<std::ptrdiff_t>(s.count);
    return std::accumulate(s.down.begin(), s.down.begin() + count, 0.0) / static_cast<double>(count);
  };
  CHECK(std::abs(mean_row(some_first) - mean_row(plain)) < 3);
  collect_other_grey_samples(picture, some_first);
  CHECK(sorted(some_first) == sorted(plain));
  fast = plain;
  const GreyModel& model = *whole_leaf().model().greys();
  evaluate_grey_samples(model.coefficients, model.origin, pose, fast);
  evaluate_grey_samples_plain(model.coefficients, model.origin, pose, plain);
  std::vector<float> values;
  values_under(model.coefficients, model.origin, pose, fast, values);
  for (size_t i = 0; i < fast.count; ++i)
    CHECK(static_cast<double>(values[i]) == doctest::Approx(static_cast<double>(fast.value[i])));
  double value = 0, slope = 0;
  size_t beside = 0;  // pixels beside edges that are seen, as their places tell
  for (size_t i = 0; i < plain.count; ++i) beside += plain.x[i] > 2;
  CHECK(*std::min_element(plain.x.begin(), plain.x.begin() + static_cast<std::ptrdiff_t>(plain.count)) > -2);
  MESSAGE(all << " pixels, " << plain.count << " where half the edges are seen, " << beside
              << " well inside");
  for (size_t i = 0; i < plain.count; ++i)
    value += plain.value[i] - fast.value[i], slope += plain.dx[i] - fast.dx[i];
  CHECK(std::abs(value) / static_cast<double>(plain.count) < 0.05);
  CHECK(std::abs(slope) / static_cast<double>(plain.count) < 0.05);

  const GreyProblem problem{plain, {0.9, 1e-3, -2e-3, 12}, 100};
  const std::array<double, grey_unknowns> step{0.05, -0.02, 1e-3, -1e-3, 0.01, 0.02, -0.01, 1};
  const auto check_alike = [](const GreyProducts& a, const GreyProducts& b) {
    for (size_t i = 0, k = 0; i < grey_columns; ++i)
      for (size_t j = i; j < grey_columns; ++j, ++k) {
        // Against the lengths of the two columns: their product may be near zero.
        const auto square = [&](size_t c) { return b[c * grey_columns - c * (c - 1) / 2]; };
        CHECK(std::abs(a[k] - b[k]) < 1e-5 * std::sqrt(square(i) * square(j)));
      }
  };
  check_alike(grey_products(problem), grey_products_plain(problem));
  const GreyProblem bent{plain, {0.9, 4e-4, -6e-4, 12}, 100, {20, -10}};
  REQUIRE(bent.bend() > 0);
  check_alike(grey_products(bent), grey_products_plain(bent));
  std::vector<float> roots, roots_plain;
  const GreyWeights w = weigh(problem, step, 20, roots),
                    w_plain = weigh_plain(problem, step, 20, roots_plain);
  for (size_t i = 0; i < plain.count; ++i) REQUIRE(std::abs(roots[i] - roots_plain[i]) < 1e-3f);
  CHECK(w.sum == doctest::Approx(w_plain.sum).epsilon(1e-4));
  CHECK(w.psi_derivative_sum == doctest::Approx(w_plain.psi_derivative_sum).epsilon(1e-4));
  CHECK(w.squares == doctest::Approx(w_plain.squares).epsilon(1e-4));
  check_alike(w.products, w_plain.products);

  // Two pictures of which each is lit by half of the slope, the one way and the other.
  GreySamples lit = plain;
  const GreyProblem two_lit{lit, {0.9, 4e-4, -6e-4, 0}, 100, {20, -10}};
  const double middle = two_lit.gain_in_the_middle();
  double with_slope_alone = 0;
  for (size_t i = 0; i < lit.count; ++i) {
    const double u = (4e-4 * (lit.x[i] - 20.0) - 6e-4 * (lit.y[i] + 10.0)) / middle, taught = lit.value[i];
    lit.grey[i] = static_cast<float>(taught * middle * (1 + u / 2) / (1 - u / 2));
    with_slope_alone = std::max(with_slope_alone, std::abs(lit.grey[i] - taught * middle * (1 + u)));
  }
  std::vector<float> left;
  some_residuals(two_lit, {}, lit.count, left);
  MESSAGE("with the slope alone " << with_slope_alone << " grey levels are left");
  for (const float r : left) REQUIRE(std::abs(r) < 0.1 * with_slope_alone);

  // The smaller half of what is left of some samples is that of all, whose weights tell it.
  std::vector<float> some;
  some_residuals(problem, step, 1000, some);
  REQUIRE(some.size() >= 500);
  REQUIRE(some.size() <= 2000);
  const auto within = [](const std::vector<float>& v, size_t count, auto is_small) {
    return static_cast<double>(
               std::count_if(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(count), is_small)) /
           static_cast<double>(count);
  };
  const double of_some = within(some, some.size(), [](float r) { return std::abs(r) < 5; }),
               of_all = within(roots_plain, plain.count, [](float r) { return r > 1 - 25.0f / 400; });
  MESSAGE("within 5 grey levels: " << of_some << " of some, " << of_all << " of all");
  CHECK(of_some == doctest::Approx(of_all).epsilon(0.1));

  std::array<std::vector<float>, 2> columns;
  for (std::vector<float>& column : columns) column.resize(plain.x.size());
  for (size_t i = 0; i < plain.count; ++i)
    columns[0][i] = plain.value[i] * plain.x[i] / 100, columns[1][i] = plain.dx[i] * plain.dx[i];
  const FurtherColumns two{columns[0].data(), nullptr, columns[1].data()};
  const ExtraRegressors further = find_further(problem, step, roots, two),
                        further_plain = find_further_plain(problem, step, roots, two);
  const auto differs = [](const auto& a, const auto& b) { return (a - b).norm() / b.norm(); };
  CHECK(differs(further.own, further_plain.own) < 1e-5);
  CHECK(differs(further.with, further_plain.with) < 1e-5);
  CHECK(differs(further.left, further_plain.left) < 1e-4);
  CHECK(further.own(1, 1) == 0);

  GreyInfluence influence{};
  for (size_t k = 0; k < influence.size(); ++k) influence[k] = 1e-3 * std::cos(static_cast<double>(k));
  const GreyCells cells{model.origin, 8, model.coefficients.width() / 8 + 2,
                        model.coefficients.height() / 8 + 2};
  GreyPulls contributions, pulls_plain;
  find_contributions(problem, step, roots, influence, cells, contributions);
  find_contributions_plain(problem, step, roots, influence, cells, pulls_plain);
  REQUIRE(contributions.size() == pulls_plain.size());
  for (size_t i = 0; i < contributions.size(); ++i)
    REQUIRE((contributions[i] - pulls_plain[i]).norm() < 1e-3f * (1 + pulls_plain[i].norm()));
}

TEST_CASE("a part whose origin lies beside it is found as well as one with its origin in the middle") {
  const Point2 middle = shot_pixel({}), beside = middle + Point2{-120, 110};
  const Image<uint8_t> taught = leaf_shot(leaf_and({}, {}), 31),
                       picture = leaf_shot(leaf_and({1, -2, 50_deg}, {}), 32);
  const auto middle_found = [&](Point2 origin) {
    const PatternTarget target = teach_pattern(taught, whole_tile(), {.origin = origin});
    const FindResult f = find(target, PreparedPicture(Image<uint8_t>(picture)), {}, Explain::never);
    REQUIRE(f.detections.size() == 1);
    const Detection& s = f.detections[0];
    CHECK(s.score > 95);
    return Similarity2{s.x, s.y, s.angle, s.scale} * (middle - origin);
  };
  CHECK(distance(middle_found(middle), middle_found(beside)) < 0.004);
}

TEST_CASE("light that falls off steeply at finding and otherwise at teaching turns no part" *
          doctest::test_suite("many pictures")) {
  double squares = 0, largest = 0;
  const int runs = 24;
  for (int run = 0; run < runs; ++run) {
    const auto seed = static_cast<uint64_t>(run);
    const PatternTarget target =
        teach_pattern(leaf_shot(leaf_and({}, {}), 2 * seed + 900, 0.5, {0.3, -0.2}), whole_tile());
    const Pose2 there{0.3, -0.2, degrees(15.0 * run)};
    const FindResult f =
        find(target, PreparedPicture(leaf_shot(leaf_and(there, {}), 2 * seed + 901, 0.5, {0.6, 0.4})), {},
             Explain::never);
    REQUIRE(f.detections.size() == 1);
    const double turn = (f.detections[0].angle + there.angle).wrapped().degrees();
    squares += turn * turn, largest = std::max(largest, std::abs(turn));
  }
  MESSAGE("rms " << std::sqrt(squares / runs) << ", at most " << largest << " degrees");
  CHECK(std::sqrt(squares / runs) < 0.003);
}

TEST_CASE("a part that is seen less sharply, or a little more so, than taught is as exact as noise allows" *
          doctest::test_suite("many pictures")) {
  struct Blur {
    double taught, seen, max_rms, light = 1;
  };
  for (const Blur& blur : {Blur{0.8, 1.1, 0.004},
                           {0.8, 1.4, 0.0045},
                           {0.6, 1.6, 0.006},
                           {0.9, 0.8, 0.004},
                           {0.8, 1.3, 0.0075, 0.5}}) {
    CAPTURE(blur.taught);
    CAPTURE(blur.seen);
    CAPTURE(blur.light);
    double squares = 0, sigmas = 0;
    const int runs = 24;
    for (int run = 0; run < runs; ++run) {
      const auto seed = static_cast<uint64_t>(run);
      const PatternTarget target =
          teach_pattern(leaf_shot(leaf_and({}, {}), 2 * seed + 700, 2, {}, blur.taught), whole_tile());
      const Pose2 there{0.2, -0.1, degrees(15.0 * run + 3)};
      const FindResult f = find(
          target,
          PreparedPicture(leaf_shot(leaf_and(there, {}), 2 * seed + 701, 2, {}, blur.seen, 0, blur.light)),
          {}, Explain::never);
      REQUIRE(f.detections.size() == 1);
      const Detection& s = f.detections[0];
      const Point2 off = Point2{s.x, s.y} - shot_pixel(there.position());
      squares += dot(off, off) / 2, sigmas += (*s.sigma.x * *s.sigma.x + *s.sigma.y * *s.sigma.y) / 2;
    }
    const double rms = std::sqrt(squares / runs), sigma = std::sqrt(sigmas / runs);
    MESSAGE("blur " << blur.seen << " where " << blur.taught << " was taught: rms " << rms << " px, sigma "
                    << sigma);
    CHECK(rms < blur.max_rms);
    CHECK(sigma < 1.6 * rms);
    CHECK(sigma > 0.7 * rms);
  }
}

TEST_CASE(
    "errors near the bound, sigmas that hold, taught anew each time; on faintly textured trays as well" *
    doctest::test_suite("many pictures")) {
  struct Tray {
    double texture, max_rms, max_turn, min_within;
  };
  for (const Tray& tray :
       {Tray{0, 0.0035, 0.0045, 0.9}, {0.003, 0.0045, 0.0062, 0.9}, {0.006, 0.0052, 0.0072, 0.9}}) {
    double squares = 0, turns = 0, bias_x = 0, bias_y = 0;
    int within = 0, asked = 0;
    Random random(77);
    const int runs = 80;
    for (int run = 0; run < runs; ++run) {
      const auto seed = static_cast<uint64_t>(run);
      const Pose2 there{random.uniform(-2, 2), random.uniform(-2, 2), degrees(random.uniform(-180, 180))};
      const auto shot = [&](const Pose2& pose, uint64_t its_seed) {
        return leaf_shot(leaf_and(pose, {}), its_seed, 2, {}, 0.8, tray.texture);
      };
      const PatternTarget target = teach_pattern(shot({}, 2 * seed + 500), whole_tile());
      const FindResult f = find(target, PreparedPicture(shot(there, 2 * seed + 501)), {}, Explain::never);
      REQUIRE(f.detections.size() == 1);
      const Detection& s = f.detections[0];
      const Point2 off = Point2{s.x, s.y} - shot_pixel(there.position());
      const double turn = (s.angle + there.angle).wrapped().degrees();
      squares += dot(off, off) / 2, turns += turn * turn, bias_x += off.x, bias_y += off.y;
      within += (std::abs(off.x) < 2 * *s.sigma.x) + (std::abs(off.y) < 2 * *s.sigma.y) +
                (std::abs(turn) < 2 * s.sigma.angle->degrees());
      asked += 3;
    }
    MESSAGE("texture " << tray.texture << ": rms " << std::sqrt(squares / runs) << " px, "
                       << std::sqrt(turns / runs) << " degrees; " << 100.0 * within / asked
                       << " % within two sigma");
    CHECK(std::sqrt(squares / runs) < tray.max_rms);
    CHECK(std::sqrt(turns / runs) < tray.max_turn);
    CHECK(std::abs(bias_x) / runs < 0.002);
    CHECK(std::abs(bias_y) / runs < 0.002);
    CHECK(within > tray.min_within * asked);
  }
}

TEST_CASE("what differs from picture to picture drops out by itself") {
  const auto stamp = [](const Pose2& tile, double angle) {
    return Piece{rectangle(9, 3), tile * Pose2{-16, 0, degrees(angle)}, 0.9};
  };
  const PatternTarget first = teach_pattern(leaf_shot(leaf_and({}, {stamp({}, 20)}), 10), whole_tile());
  CHECK(share_near(first, {-16, 0}, 6) > 0.04);
  std::vector<PreparedPicture> prepared_pictures;
  const std::vector<Pose2> poses{{2, 3, 40_deg}, {-3, 1, -100_deg}, {0, -2, 170_deg}, {1, 1, 10_deg}};
  for (size_t i = 0; i < poses.size(); ++i)
    prepared_pictures.emplace_back(
        leaf_shot(leaf_and(poses[i], {stamp(poses[i], 70.0 + 47 * static_cast<double>(i))}), 11 + i));
  prepared_pictures.emplace_back(leaf_shot({}, 30));
  std::vector<const PreparedPicture*> pictures;
  for (const PreparedPicture& s : prepared_pictures) pictures.push_back(&s);
  const StableTarget stable = keep_stable_edges(first, pictures);
  CHECK(stable.used == 4);
  CHECK(stable.not_found == std::vector<size_t>{4});
  CHECK(share_near(stable.target, {-16, 0}, 4.5) < 0.01);
  CHECK(stable.target.edges().size() > 0.85 * static_cast<double>(first.edges().size()));
  // A further stamp costs the stable target nothing.
  const PreparedPicture further(leaf_shot(leaf_and({1, 2, 77_deg}, {stamp({1, 2, 77_deg}, -30)}), 40));
  CHECK(find(stable.target, further, {}).detections.at(0).score >
        find(first, further, {}).detections.at(0).score + 1);
  CHECK_THROWS_WITH_AS(keep_stable_edges(first, {pictures[4]}), doctest::Contains("found in none"), Error);
  CHECK_THROWS_AS(keep_stable_edges(first, pictures, 0), Error);
}

TEST_CASE("the teaching report says how well a part holds, and against what") {
  const PreparedPicture prepared(leaf_shot(leaf_and({}, {}), 1));
  const TeachingReport r = report_teaching(whole_leaf(), &prepared, whole_leaf().origin());
  CHECK(r.turns == 1);
  CHECK(r.edges.size() == whole_leaf().model().levels().size());
  CHECK(r.noise_sigma == doctest::Approx(2).epsilon(0.15));
  // The bound of teaching and finding, by the renderer: bench_pattern_accuracy prints 0.0025 px, 0.0032
  // degrees.
  CHECK(*r.expected.x > 0.0019);
  CHECK(*r.expected.x < 0.0032);
  CHECK(r.expected.angle->degrees() > 0.0024);
  CHECK(r.expected.angle->degrees() < 0.0042);
  CHECK(r.weakest_contrast < r.median_contrast);
  CHECK(r.cut_places == 0);
  // The tile's own outline, turned by half a turn.
  if (r.turned) CHECK(r.turned->score < 70);
  const PatternTarget cut = teach_pattern(prepared.level(0), Region::rectangle(shot_pixel({}), 120, 90, {}));
  CHECK(report_teaching(cut).cut_places >= 2);
}

TEST_CASE("a symmetric part is told as such, and its angle lies within its period") {
  const std::vector<Piece> square{{rectangle(34, 34), {}, 0.7}};
  const auto turned = [&](const Pose2& pose) {
    std::vector<Piece> pieces = square;
    for (Piece& p : pieces) p.world_from_piece = pose;
    return pieces;
  };
  const Region region = Region::rectangle(shot_pixel({}), 180, 180, {});
  // The origin lies away from the middle, so a whole period moves it.
  const Point2 corner = shot_pixel({}) + Point2{50, 20};
  const PatternTarget target = teach_pattern(leaf_shot(turned({}), 3), region, {.origin = corner});
  CHECK(target.symmetry_order() == 4);
  CHECK(report_teaching(target).turns == 4);
  CHECK(whole_leaf().symmetry_order() == 1);
  for (const double angle : {10.0, 60.0, 130.0, -170.0}) {
    CAPTURE(angle);
    const PreparedPicture prepared(leaf_shot(turned({3, 2, degrees(angle)}), 4));
    const double picture_angle = std::remainder(-angle, 90.0);
    const FindResult f = find(target, prepared, {});
    REQUIRE(f.detections.size() == 1);
    CHECK(f.detections[0].angle.degrees() == doctest::Approx(picture_angle).epsilon(0.001));
    const Point2 there = shot_pixel({3, 2}) + rotated(Point2{50, 20}, degrees(picture_angle));
    CHECK(distance({f.detections[0].x, f.detections[0].y}, there) < 0.05);
    const FindResult g = find(target, prepared, {.angle = {90_deg, 180_deg}});
    REQUIRE(g.detections.size() == 1);
    CHECK(g.detections[0].angle.degrees() >= 90);
    CHECK(g.detections[0].angle.degrees() <= 180);
  }
  CHECK(teach_pattern(leaf_shot({{hexagon(16), {}, 0.7}}, 5), region).symmetry_order() == 6);
}

TEST_CASE("less detail teaches fewer edges, and still finds the part") {
  const Image<uint8_t> picture = leaf_shot(leaf_and({}, {}), 1);
  size_t before = whole_leaf().edges().size();
  for (const int detail : {1, 2, 3}) {
    CAPTURE(detail);
    const PatternTarget target = teach_pattern(picture, whole_tile(), {.detail = detail});
    CHECK(target.edges().size() <= before);
    before = target.edges().size();
    CHECK(find(target, PreparedPicture(leaf_shot(leaf_and({2, 1, 50_deg}, {}), 9)), {}).detections.size() ==
          1);
  }
  CHECK(before < 0.9 * static_cast<double>(whole_leaf().edges().size()));
  CHECK_THROWS_WITH_AS(teach_pattern(picture, whole_tile(), {.detail = 4}), doctest::Contains("detail"),
                       Error);
}

TEST_CASE("what a study proposes serves a recording that it has not seen" *
          doctest::test_suite("many pictures")) {
  TrayStation station = make_tray_station(700, {.views = 16, .leaves = 3, .others = 6, .hard = true});
  Random random(6);
  const Pose2 tile = station.teach.tiles[0].table_from_tile;
  const Point2 origin = station.camera.project({tile.x, tile.y, 0});
  const PatternTarget target = teach_pattern(expose(exact_picture(station.teach.scene), {.sigma = 2}, random),
                                             Region::rectangle(origin, 212, 164, {}));
  std::vector<StudiedPicture> studied;
  int right = 0, wrong = 0, missing = 0;
  StudyAdvice advice;
  const FindOptions start{.min_score = 75};
  for (size_t i = 0; i < station.views.size(); ++i) {
    const TrayView& view = station.views[i];
    std::vector<KnownPart> known;
    for (const TrayTile& t : view.tiles)
      if (t.kind == "leaf") {
        const Point2 at = station.camera.project({t.table_from_tile.x, t.table_from_tile.y, 0});
        known.push_back({at.x, at.y});
      }
    const PreparedPicture prepared(expose(exact_picture(view.scene), {.sigma = 2}, random));
    if (i < 8) {
      studied.push_back(study_picture(target, prepared, start, find(target, prepared, start), &known));
      if (i == 7) advice = advise(target, start, studied, prepared.width(), prepared.height());
      continue;
    }
    const StudiedPicture judged =
        study_picture(target, prepared, advice.options, find(target, prepared, advice.options), &known);
    right += judged.found, wrong += judged.wrong, missing += judged.missing;
  }
  CHECK(advice.separated);
  CHECK(advice.right == 24);
  CHECK(advice.options.max_count == 3);
  CHECK(advice.options.min_score < 75);
  CHECK(advice.options.min_score > advice.best_wrong.value_or(25));
  CHECK(right == 24);
  CHECK(wrong == 0);
  CHECK(missing == 0);
  // Nothing to learn from changes nothing.
  const StudyAdvice none = advise(target, start, {}, 100, 100);
  CHECK(none.right == 0);
  CHECK(none.options.min_score == 75);
}
