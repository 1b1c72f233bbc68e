#include "locate/pattern/edges/contour_segments.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <numbers>

using namespace heron;

namespace {

/// A ring of edges, normals outwards.
std::vector<TaughtEdge> ring_edges(double radius, int count) {
  std::vector<TaughtEdge> edges;
  for (int i = 0; i < count; ++i) {
    const double a = 2 * std::numbers::pi * i / count;
    edges.push_back({{radius * std::cos(a), radius * std::sin(a)}, {std::cos(a), std::sin(a)}});
  }
  return edges;
}

}  // namespace

TEST_CASE("a stretch holds edges that are near each other and point much the same way") {
  std::vector<TaughtEdge> edges = ring_edges(50, 90);
  for (TaughtEdge e : ring_edges(45, 90)) edges.push_back({e.place, e.normal * -1.0});
  const ContourSegments segments(edges, {-50, -50, 100, 100});
  CHECK(segments.count() >= 8);
  CHECK(segments.count() <= 40);
  double farthest = 0, min_cosine = 1;
  for (const TaughtEdge& a : edges)
    for (const TaughtEdge& b : edges) {
      if (segments.of(a) != segments.of(b)) continue;
      farthest = std::max(farthest, distance(a.place, b.place));
      min_cosine = std::min(min_cosine, dot(a.normal, b.normal));
    }
  CHECK(farthest <= 80);
  CHECK(min_cosine > -0.5);  // never the two sides of a line
  std::vector<TaughtEdge> sorted = edges;
  const std::vector<int> ends = segments.sort(sorted);
  CHECK(static_cast<int>(ends.size()) == segments.count());
  CHECK(ends.back() == static_cast<int>(edges.size()));
  int first = 0, strangers = 0;
  for (const int end : ends) {
    const int its = segments.of(sorted[static_cast<size_t>(first)]);
    for (; first < end; ++first) strangers += segments.of(sorted[static_cast<size_t>(first)]) != its;
  }
  CHECK(strangers == 0);
}

TEST_CASE("of each stretch that is kept of which more is seen, rising or falling") {
  EdgeColumns edges;
  edges.count = 6, edges.segments = 2, edges.segment = {0, 0, 0, 1, 1, 1};
  // The first falls where it is met near; the second rises, but one edge of it meets something stronger.
  EdgeSamples rising{{2.5f, 2.5f, 0, 0.1f, 0, 0.2f}, {20, 20, 0, 20, 0, 20}, {1, 1, 0, 1, 0, 1}},
      falling{{0.1f, 0, 0.1f, 2, 1, 0}, {30, 30, 30, 90, 90, 0}, {1, 1, 1, 1, 0.2f, 0}};
  keep_better_sign(edges, falling, 3, rising);
  CHECK(rising.contrast == std::vector<float>{30, 30, 30, 20, 0, 20});
  CHECK(rising.offset == std::vector<float>{0.1f, 0, 0.1f, 0.1f, 0, 0.2f});
}
