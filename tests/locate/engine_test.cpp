#include <doctest/doctest.h>
#include <tbb/global_control.h>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/teaching.hpp"
#include "heron/render/tray_station.hpp"
#include "locate/pattern/coarse/coarse_search.hpp"
#include "locate/pattern/coarse/response_maps.hpp"
#include "locate/pattern/edges/edge_fit.hpp"
#include "locate/pattern/grey/grey_model.hpp"
#include "locate/pattern/model/pattern_model.hpp"
#include "locate/pattern/search/apply_limits.hpp"
#include "locate/pattern/search/descent.hpp"
#include "locate/pattern/search/duplicate_filter.hpp"
#include "locate/pattern/search/overlap.hpp"
#include "locate/pattern/search/refine.hpp"

// The stages of a find, each by itself.

using namespace heron;
using namespace heron::render;

namespace {

struct Bench {
  static constexpr int side = 420;
  CameraModel camera =
      camera_above(600, {.fx = 2400, .fy = 2400, .cx = 0.5 * (side - 1), .cy = 0.5 * (side - 1)});
  PatternTarget target =
      teach_pattern(picture({}, 80), Region::rectangle(pixel({}), 204, 152, {}), {.name = "leaf"});

  Point2 pixel(Point2 table) const { return camera.project({table.x, table.y, 0}); }
  Image<uint8_t> picture(const Pose2& tile, uint64_t seed, double scale = 1, double strip = 0,
                         double texture = 0) const {
    Scene scene;
    scene.texture = texture, scene.texture_seed = seed;
    scene.camera = camera;
    scene.width = scene.height = side;
    scene.pieces = tile_pieces("leaf", tile, 0.62);
    for (Piece& p : scene.pieces) p.outline = scaled(p.outline, scale);
    if (strip > 0) scene.pieces.push_back({rectangle(strip, 60), tile, 0.4});
    Random random(seed);
    return expose(exact_picture(scene), {.sigma = 2}, random);
  }
  /// Where the target lies for a tile on the table; pictures turn the other way round.
  Similarity2 truth(const Pose2& tile, double scale = 1) const {
    const Point2 p = pixel(tile.position());
    return {p.x, p.y, (-tile.angle).wrapped(), scale};
  }
};

const Bench& bench() {
  static const Bench shared;
  return shared;
}

/// How far the part's outer edges lie from where they belong.
double off_by(const Similarity2& a, const Similarity2& b) {
  return distance(a.position(), b.position()) + 100 * std::abs((a.angle - b.angle).wrapped().radians()) +
         100 * std::abs(a.scale - b.scale);
}

double response_at(const ResponseMaps& maps, int direction, int x, int y) {
  return maps.maps[static_cast<size_t>(direction)](x + maps.pad, y + maps.pad);
}

}  // namespace

TEST_CASE("response maps answer to a direction, less to its neighbours, and a pixel away as well") {
  Gradients g{Image<uint8_t>(40, 30), Image<uint8_t>(40, 30)};
  g.direction(20, 15) = 64, g.size(20, 15) = 50;  // down: step 4 of 16
  g.direction(5, 5) = 0, g.size(5, 5) = 9;        // too weak
  const ResponseMaps maps = response_maps(g, 10, 6, 0, 30);
  for (const int dx : {-1, 0, 1})
    for (const int dy : {-1, 0, 1}) {
      CHECK(response_at(maps, 4, 20 + dx, 15 + dy) == best_response);
      CHECK(response_at(maps, 3, 20 + dx, 15 + dy) == 3);
      CHECK(response_at(maps, 5, 20 + dx, 15 + dy) == 3);
      CHECK(response_at(maps, 2, 20 + dx, 15 + dy) == 1);
      CHECK(response_at(maps, 12, 20 + dx, 15 + dy) == 0);  // the other way round
    }
  CHECK(response_at(maps, 4, 22, 15) == 0);
  CHECK(response_at(maps, 0, 5, 5) == 0);
  CHECK(response_at(maps, 4, -5, -5) == 0);  // the margin
}

TEST_CASE("bands of response maps hold what the whole holds") {
  const PreparedPicture prepared(bench().picture({3, 1, 40_deg}, 81));
  const Gradients& g = prepared.gradients(2);
  const int rows = g.size.height(), pad = 9;
  const ResponseMaps whole = response_maps(g, 5, pad, 0, rows);
  for (const int first : {0, 16, 48}) {
    const int count = std::min(16, rows - first);
    const ResponseMaps band = response_maps(g, 5, pad, first, count);
    int different = 0;
    for (int d = 0; d < direction_steps; ++d)
      for (int y = -pad + 1; y < count + pad - 1; ++y)
        for (int x = 0; x < g.size.width(); ++x) {
          if (first + y < -pad + 1 || first + y >= rows + pad - 1) continue;
          different += response_at(band, d, x, y) != response_at(whole, d, x, first + y);
        }
    CHECK(different == 0);
  }
}

TEST_CASE("from the best hit of the coarse search a fit runs to the part, at every angle and scale") {
  for (const auto& [angle, scale] :
       {std::pair{-170.0, 1.0}, {-75.0, 0.85}, {3.0, 1.15}, {88.0, 1.0}, {140.0, 0.95}}) {
    CAPTURE(angle);
    const Pose2 tile{2, -3, degrees(angle)};
    const PreparedPicture prepared(bench().picture(tile, 82, scale));
    const CoarseSearch search{.angle = full_turn,
                              .scale = {0.8, 1.2},
                              .origins = {0, 0, Bench::side - 1.0, Bench::side - 1.0},
                              .level = bench().target.model().coarse().level};
    const std::vector<CoarseHit> hits =
        coarse_search(bench().target.model(), prepared, search, nullptr).next(256);
    REQUIRE_FALSE(hits.empty());
    CHECK(hits[0].likeness > 0.7);
    const CoarseEdges& coarse = bench().target.model().coarse();
    const EdgeFit fit =
        fit_edges(prepared.level(coarse.level), coarse.columns,
                  {hits[0].place.x, hits[0].place.y, hits[0].angle, hits[0].scale},
                  {.level = coarse.level, .min_contrast = 4, .free_scale = true, .rounds = 2});
    REQUIRE(fit.fitted);
    CHECK(off_by(fit.pose, bench().truth(tile, scale)) < 0.5 * std::ldexp(1.0, coarse.level));
    for (size_t i = 1; i < hits.size(); ++i) CHECK(hits[i].likeness <= hits[i - 1].likeness);
  }
}

TEST_CASE("the edge fit runs to the truth from two pixels and two degrees away") {
  const Pose2 tile{1, 2, 25_deg};
  const Image<uint8_t> picture = bench().picture(tile, 83, 1.03);
  const Similarity2 truth = bench().truth(tile, 1.03);
  Random random(84);
  for (int i = 0; i < 20; ++i) {
    Similarity2 start = truth;
    start.x += random.uniform(-1.4, 1.4), start.y += random.uniform(-1.4, 1.4);
    start.angle = start.angle + degrees(random.uniform(-1, 1));
    start.scale *= random.uniform(0.99, 1.01);
    const EdgeFit fit =
        fit_edges(picture, bench().target.model().columns()[0], start, {.free_scale = true, .rounds = 4});
    REQUIRE(fit.fitted);
    CHECK(off_by(fit.pose, truth) < 0.05);
    CHECK(fit.score > 97);
    CHECK(fit.sigma.x > 0);
    CHECK(fit.sigma.x < 0.02);
  }
  // Held unknowns stay, with no sigma of their own.
  Similarity2 start = truth;
  start.x += 0.8;
  const EdgeFit held = fit_edges(picture, bench().target.model().columns()[0], start, {.free_angle = false});
  CHECK(held.pose.angle == start.angle);
  CHECK(held.pose.scale == start.scale);
  CHECK(held.sigma.angle.radians() == 0);
  CHECK(held.sigma.scale == 0);
  // Too few edges in the first round: given up.
  start.x += 40;
  CHECK_FALSE(fit_edges(picture, bench().target.model().columns()[0], start, {.min_met = 80}).fitted);
}

TEST_CASE("the grey fit improves on the edges, keeps off what is covered, and refuses another surface") {
  const Pose2 tile{-1, 1, 130_deg};
  const std::vector<float> every_edge = [] {
    return std::vector<float>(bench().target.edges().size(), 1.0f);
  }();
  const auto fitted = [&](const Image<uint8_t>& picture, const Similarity2& start,
                          const std::vector<float>& seen) {
    return fit_greys(picture, *bench().target.model().greys(), seen, start, {.noise_sigma = 2});
  };
  const Similarity2 truth = bench().truth(tile);
  Similarity2 start = truth;
  start.x += 0.3, start.y -= 0.2, start.angle = start.angle + 0.1_deg;
  const GreyFit clean = fitted(bench().picture(tile, 85), start, every_edge);
  REQUIRE(clean.fitted);
  CHECK(distance(clean.pose.position(), truth.position()) < 0.01);
  CHECK(std::abs((clean.pose.angle - truth.angle).degrees()) < 0.015);
  CHECK(clean.sigma.x == doctest::Approx(0.0026).epsilon(0.4));

  const Image<uint8_t> covered = bench().picture(tile, 86, 1, 12);
  const SeenEdges seen = see_edges(covered, bench().target.model().columns()[0], truth, 8, GradientSign::up);
  CHECK(seen.score < 85);
  const GreyFit rest = fitted(covered, start, seen.weights);
  REQUIRE(rest.fitted);
  CHECK(distance(rest.pose.position(), truth.position()) < 0.02);

  // On a coarsely textured tray edges know far better, elsewhere the grey values do.
  const GreySearch beside_edges{.noise_sigma = 2, .edges = FitSigma{0.006, 0.006, 0.008_deg, 0}};
  const auto surpasses = [&](const Image<uint8_t>& picture) {
    return fit_greys(picture, *bench().target.model().greys(), every_edge, start, beside_edges).fitted;
  };
  CHECK(surpasses(bench().picture(tile, 85)));
  const Image<uint8_t> textured = bench().picture(tile, 88, 1, 0, 0.04);
  CHECK_FALSE(surpasses(textured));
  CHECK(fitted(textured, start, every_edge).fitted);
  // Between the two it is the mean of both, no less sure than edges alone.
  Similarity2 by_edges = truth;
  by_edges.x += 0.006, by_edges.y -= 0.006, by_edges.angle = by_edges.angle + 0.008_deg;
  const GreyFit mean = fit_greys(bench().picture(tile, 88, 1, 0, 0.015), *bench().target.model().greys(),
                                 every_edge, by_edges, beside_edges);
  REQUIRE(mean.fitted);
  CHECK(mean.sigma.x < 0.006);
  CHECK(mean.sigma.x > clean.sigma.x);
  CHECK(distance(mean.pose.position(), truth.position()) < 0.015);

  // Nothing seen, nothing there, too far away.
  CHECK_FALSE(fitted(covered, start, std::vector<float>(every_edge.size(), 0.0f)).fitted);
  Random random(87);
  Image<uint8_t> noise(Bench::side, Bench::side);
  for (int y = 0; y < Bench::side; ++y)
    for (int x = 0; x < Bench::side; ++x) noise(x, y) = static_cast<uint8_t>(random.whole(0, 255));
  CHECK_FALSE(fitted(noise, truth, every_edge).fitted);
  start.x += 9;
  CHECK_FALSE(fitted(bench().picture(tile, 85), start, every_edge).fitted);
}

TEST_CASE("edges outside the picture are counted by their share") {
  const Image<uint8_t> picture(Bench::side, Bench::side);
  const EdgeColumns& edges = bench().target.model().columns()[0];
  CHECK(share_outside(picture, edges, {210, 210, 0_deg, 1}) == 0);
  CHECK(share_outside(picture, edges, {-400, 210, 0_deg, 1}) == 1);
  size_t left = 0;
  for (const TaughtEdge& e : bench().target.edges()) left += e.place.x < 0;
  CHECK(share_outside(picture, edges, {-0.5, 210, 0_deg, 1}) ==
        doctest::Approx(static_cast<double>(left) / static_cast<double>(edges.count)).epsilon(0.01));
}

TEST_CASE("of candidates on one spot the best counts, and what is turned away names every limit") {
  const PreparedPicture prepared(bench().picture({}, 88));
  const auto candidate = [&](double x, double score) {
    Candidate c{.pose = {x, 200, 10_deg, 1}, .score = score, .contrast = 50};
    c.seen = std::make_shared<const SeenEdges>(
        see_edges(prepared.level(0), bench().target.model().columns()[0], c.pose, 8, GradientSign::up));
    return c;
  };
  const FindResult f = apply_limits(bench().target.model(), prepared,
                                    {candidate(100, 70), candidate(103, 90), candidate(330, 80)}, {});
  REQUIRE(f.detections.size() == 2);
  CHECK(f.detections[0].x == 103);
  CHECK(f.detections[1].x == 330);
  CHECK(f.misses.empty());
  Candidate faint = candidate(200, 70);
  faint.contrast_wanted = 50;
  const FindResult strict = apply_limits(bench().target.model(), prepared, {faint},
                                         {.angle = {20_deg, 30_deg}, .min_score = 75, .min_contrast = 60});
  CHECK(strict.detections.empty());
  REQUIRE(strict.misses.size() == 1);
  REQUIRE(strict.misses[0].reasons.size() == 3);
  CHECK(strict.misses[0].reasons[0].name == "score");
  CHECK(strict.misses[0].reasons[1].name == "contrast");
  CHECK(strict.misses[0].reasons[2].name == "angle");
  CHECK(strict.misses[0].reasons[0].sigma > 0);
}

TEST_CASE("how much of the smaller of two parts the other covers is what their boxes have in common") {
  const Box box{-30, -10, 60, 20};
  const Similarity2 here{200, 100, 25_deg, 1};
  const auto beside = [&](double along, double across, Angle turn, double scale) {
    const Point2 there = here * Point2{along, across};
    return overlap(Footprint(box, here), Footprint(box, {there.x, there.y, here.angle + turn, scale}));
  };
  CHECK(beside(0, 0, 0_deg, 1) == doctest::Approx(1));
  CHECK(beside(15, 0, 0_deg, 1) == doctest::Approx(0.75));
  CHECK(beside(-30, 5, 180_deg, 1) == doctest::Approx(0.5 * 0.75));
  CHECK(beside(0, 0, 90_deg, 1) == doctest::Approx(20.0 * 20 / (60 * 20)));  // crosswise
  CHECK(beside(5, 2, 0_deg, 0.5) == doctest::Approx(1));                     // within the larger
  CHECK(beside(61, 0, 0_deg, 1) == 0);
  const Box square{-5, -5, 10, 10};
  CHECK(overlap(Footprint(square, here), Footprint(square, {200, 100, 70_deg, 1})) ==
        doctest::Approx(2 * std::sqrt(2.0) - 2));  // an octagon
  CHECK(overlap(Footprint({0, 0, 0, 20}, here), Footprint(box, here)) == 0);
}

TEST_CASE("what two boxes have in common is the share of points that lie in both") {
  Random random(8);
  for (int i = 0; i < 60; ++i) {
    const Box box{random.uniform(-40, 10), random.uniform(-20, 5), random.uniform(20, 60), 20};
    const auto placed = [&] {
      return Similarity2{random.uniform(-15, 15), random.uniform(-15, 15),
                         i % 3 ? degrees(random.uniform(-180, 180)) : degrees(90 * random.whole(0, 3)),
                         random.uniform(0.7, 1.4)};
    };
    const Similarity2 small = placed(), other = placed();
    constexpr int side = 200;
    int within = 0;
    for (int y = 0; y < side; ++y)
      for (int x = 0; x < side; ++x) {
        const Point2 p = other.inverse() * (small * Point2{box.x + box.width * (x + 0.5) / side,
                                                           box.y + box.height * (y + 0.5) / side});
        within += std::max(std::abs(p.x - box.centre().x) / box.width,
                           std::abs(p.y - box.centre().y) / box.height) < 0.5;
      }
    const double common = static_cast<double>(within) / side / side * small.scale * small.scale,
                 share = common / std::pow(std::min(small.scale, other.scale), 2);
    CHECK(overlap(Footprint(box, small), Footprint(box, other)) == doctest::Approx(share).epsilon(0.01));
    CHECK(overlap(Footprint(box, other), Footprint(box, small)) == doctest::Approx(share).epsilon(0.01));
  }
}

TEST_CASE("echoes of a part that is seen nearly whole are given up, and nothing else is") {
  const PatternTarget& target = bench().target;
  const auto at = [](double x, double y, Angle angle, double score) {
    return Candidate{.pose = {x, y, angle, 1}, .score = score};
  };
  const auto count_left = [&](double effort, double score_of_fit, const Candidate& hit) {
    DuplicateFilter duplicates(target.model(), {.scale = {1, 1}, .effort = effort});
    duplicates.learn({at(500, 400, 20_deg, score_of_fit)});
    return duplicates.is_explained(hit) ? 0 : 1;
  };
  const Candidate echo = at(510, 395, 160_deg, 70), rival = at(510, 395, 160_deg, 92),
                  neighbour = at(650, 400, 20_deg, 70);
  CHECK(count_left(0.5, 95, echo) == 0);
  CHECK(count_left(0.5, 95, rival) == 1);
  CHECK(count_left(0.5, 95, neighbour) == 1);
  CHECK(count_left(0.5, 75, echo) == 1);  // a fit that shows too little explains nothing
  CHECK(count_left(1, 95, echo) == 1);

  std::vector<Candidate> hits{at(500, 400, 20_deg, 95), echo, at(900, 300, 0_deg, 80), neighbour};
  const DuplicateFilter duplicates(target.model(), {.scale = {1, 1}});
  CHECK(duplicates.take_leaders(hits).size() == 3);
  REQUIRE(hits.size() == 1);
  CHECK(hits[0].pose.angle.degrees() == doctest::Approx(160));

  const auto left = duplicates.distinct(
      {at(500, 400, 20_deg, 95), at(500.2, 400, 20_deg, 94), rival, at(510, 395, 160_deg, 50), neighbour}, 0);
  REQUIRE(left.size() == 3);  // the second ran into the first, the fourth is its echo
  CHECK(left[1].score == 92);
  CHECK(left[2].score == 70);
}

TEST_CASE("a fit that ran into the pose of a whole part is that part again, unless it is much better") {
  const auto at = [](double x, Angle angle, double score) {
    return Candidate{.pose = {x, 400, angle, 1}, .score = score};
  };
  DuplicateFilter duplicates(bench().target.model(), {.scale = {1, 1}});
  CHECK_FALSE(duplicates.is_again(at(500, 20_deg, 90), 2));
  const auto first = duplicates.learn(at(500, 20_deg, 90));
  REQUIRE(first);
  CHECK(first->is_first);
  CHECK(duplicates.is_again(at(501, 20.5_deg, 92), 2));
  CHECK_FALSE(duplicates.is_again(at(501, 20.5_deg, 92), 0));  // that is another pose in the full picture
  CHECK_FALSE(duplicates.is_again(at(501, 20.5_deg, 95), 2));
  CHECK_FALSE(duplicates.is_again(at(501, 40_deg, 92), 2));
  CHECK_FALSE(duplicates.learn(at(505, 40_deg, 92))->is_first);
  CHECK(duplicates.learn(at(900, 40_deg, 92))->is_first);
}

/// A part to be carried down from the coarsest level, and the search that does it.
struct Descent {
  PreparedPicture prepared;
  PatternSearch search;
  Similarity2 truth;
  int top;
  explicit Descent(uint64_t seed, Pose2 tile = {4, -3, 130_deg})
      : prepared(bench().picture(tile, seed)),
        search{bench().target.model(),
               prepared,
               {full_turn, {0.9, 1.1}, 8, 50, Polarity::as_taught, 0.5, 0.5, {0, 0, 419, 419}},
               nullptr},
        truth(bench().truth(tile)),
        top(search.coarse().level) {}
};

TEST_CASE("what is carried down ahead comes out as step by step") {
  const Descent descent(7);
  const PatternSearch& search = descent.search;
  const int top = descent.top;
  REQUIRE(top > 0);
  Candidate step = LevelFit(search, top).of({.pose = descent.truth, .score = 100});
  REQUIRE(step.score > 80);
  SpeculativeRefinement ahead(search);
  ahead.begin(step);
  Candidate nothing_there{.pose = {3, 3, 0_deg, 1}, .score = 70};
  ahead.begin(nothing_there);
  ahead.wait();
  CHECK(ahead.fitted(step, top) == nullptr);
  for (int level = top - 1; level >= 0; --level) {
    const Candidate* known = ahead.fitted(step, level);
    REQUIRE(known);
    step = LevelFit(search, level).of(step);
    CHECK(known->pose.x == step.pose.x);
    CHECK(known->score == step.score);
  }
  const Candidate *end = ahead.finished(step), its = finished(step, search);
  REQUIRE(end);
  CHECK(end->pose.y == its.pose.y);
  CHECK(end->sigma.angle == its.sigma.angle);
  CHECK(end->score == its.score);
  REQUIRE(ahead.fitted(nothing_there, top - 1));
  CHECK(ahead.fitted(nothing_there, top - 1)->score == 0);
  step.score -= 1;
  CHECK(ahead.finished(step) == nullptr);
}

TEST_CASE("what is seen well skips every other level on its way down, and comes as near") {
  const Descent descent(8);
  const PatternSearch& search = descent.search;
  const int top = descent.top;
  REQUIRE(top > 2);
  const Similarity2 truth = descent.truth;
  const Candidate well = LevelFit(search, top).of({.pose = truth, .score = 100});
  REQUIRE(well.score > 80);
  Candidate less = well;
  less.score = 79;
  const Candidate skipped = LevelFit(search, top - 1).of(well), fitted = LevelFit(search, top - 1).of(less);
  CHECK(skipped.pose.x == well.pose.x);
  CHECK(fitted.pose.x != well.pose.x);
  for (const Candidate& start : {skipped, fitted}) {
    const Candidate next = LevelFit(search, top - 2).of(start);
    CHECK(distance(next.pose.position(), truth.position()) < 0.1);
    CHECK(std::abs((next.pose.angle - truth.angle).wrapped().degrees()) < 0.1);
  }
}

TEST_CASE(
    "a prepared picture that tasks of one pool share makes its gradients once, and no task waits for "
    "itself") {
#ifdef HERON_PLAIN_THREADS
  return;  // its tasks are oneTBB's, which the thread sanitizer cannot follow
#endif
  const Image<uint8_t> picture(64, 1024);
  const tbb::global_control more(tbb::global_control::max_allowed_parallelism, 8);
  tbb::task_arena(8).execute([&] {
    for (int i = 0; i < 1000; ++i) {
      const PreparedPicture prepared{Image<uint8_t>(picture)};
      std::array<const Gradients*, 12> seen{};
      const int tasks = 3 + i % 3 * 3;
      tbb::parallel_for(0, tasks,
                        [&](int task) { seen[static_cast<size_t>(task)] = &prepared.gradients(0); });
      REQUIRE(std::count(seen.begin(), seen.end(), &prepared.gradients(0)) == tasks);
    }
  });
}

TEST_CASE("an origin far outside the part and the picture is told as exactly as its arm allows") {
  const Bench& b = bench();
  const Point2 far{500, -200};
  const PatternTarget moved(Image<uint8_t>(b.target.pixels().view()), Image<uint8_t>(b.target.mask().view()),
                            b.target.origin() + far, b.target.settings());
  CHECK(moved.symmetry_order() != 0);
  CHECK(norm(moved.model().to_centred() + far) < 20);
  const PreparedPicture prepared(b.picture({4, -3, 130_deg}, 7));
  for (const Range<double> scale : {Range<double>{1, 1}, {0.9, 1.1}}) {
    FindOptions options;
    options.scale = scale;
    const FindResult near_by = find(b.target, prepared, options), away = find(moved, prepared, options);
    REQUIRE(near_by.detections.size() == 1);
    REQUIRE(away.detections.size() == 1);
    const Detection &s = near_by.detections[0], &t = away.detections[0];
    const Similarity2 pose{s.x, s.y, s.angle, s.scale};
    const Point2 there = pose * far, arm = there - pose.position();
    CHECK(!prepared.level(0).view().holds(static_cast<int>(there.x), static_cast<int>(there.y)));
    CHECK(distance({t.x, t.y}, there) < 0.01);
    CHECK(std::abs((t.angle - s.angle).wrapped().degrees()) < 0.001);
    CHECK(t.score == doctest::Approx(s.score).epsilon(0.01));
    const double grows = *s.sigma.scale / s.scale, turns = s.sigma.angle->radians();
    CHECK(*t.sigma.x == doctest::Approx(std::hypot(*s.sigma.x, arm.y * turns, arm.x * grows)).epsilon(0.1));
    CHECK(*t.sigma.y == doctest::Approx(std::hypot(*s.sigma.y, arm.x * turns, arm.y * grows)).epsilon(0.1));
    // A search region is about the origin that is told.
    options.region = Region::rectangle(there, 20, 20, {});
    CHECK(find(moved, prepared, options).detections.size() == 1);
    options.region = Region::rectangle(there + Point2{60, 0}, 20, 20, {});
    const FindResult elsewhere = find(moved, prepared, options);
    CHECK(elsewhere.detections.empty());
    REQUIRE(!elsewhere.misses.empty());
    CHECK(elsewhere.misses[0].reasons[0].name == "region");
  }
  const TeachingReport report = report_teaching(moved, nullptr, moved.origin()),
                       as_usual = report_teaching(b.target, nullptr, b.target.origin());
  CHECK(report.turns == as_usual.turns);
  CHECK(*report.expected.x ==
        doctest::Approx(std::hypot(*as_usual.expected.x, far.y * as_usual.expected.angle->radians()))
            .epsilon(0.1));
  CHECK(report.expected.angle->degrees() ==
        doctest::Approx(as_usual.expected.angle->degrees()).epsilon(0.05));
  CHECK(report.slide_ratio == doctest::Approx(as_usual.slide_ratio).epsilon(0.1));
  // So far that single numbers no longer tell one pixel from the next.
  const PatternTarget beyond(Image<uint8_t>(b.target.pixels().view()), Image<uint8_t>(b.target.mask().view()),
                             {1e9, -1e9}, b.target.settings());
  CHECK(beyond.symmetry_order() != 0);
  CHECK(report_teaching(beyond, nullptr, beyond.origin()).expected.angle->degrees() ==
        doctest::Approx(as_usual.expected.angle->degrees()).epsilon(0.05));
  CHECK(find(beyond, prepared, {}).detections.size() == 1);
}
