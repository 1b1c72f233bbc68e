#include "slides.hpp"

#include <algorithm>
#include <cmath>

#include "heron/image/pyramid.hpp"
#include "heron/image/sample.hpp"
#include "locate/pattern/edges/edge_fit.hpp"
#include "locate/pattern/model/part_size.hpp"

namespace heron {
namespace {

constexpr float well_seen = 0.75F;  // of an edge's weight: it lies some 0.7 pixels off, then

/// Edges of much the same direction, near each other, that are not seen.
struct Unseen {
  Point2 normal;  ///< in the taught frame, the mean
  std::vector<Point2> places;
};

std::vector<Unseen> unseen_stretches(const Candidate& c, const PatternModel& target) {
  const std::vector<TaughtEdge>& edges = target.levels()[0];
  const double near_by = 0.5 * half_diagonal(target), alike = 0.94;  // 20 degrees
  const size_t stride = std::max<size_t>(1, edges.size() / 400);
  std::vector<Unseen> segments;
  for (size_t i = 0; i < edges.size(); i += stride) {
    if (c.seen->weights[i] > well_seen) continue;
    const TaughtEdge& e = edges[i];
    const auto own = std::find_if(segments.begin(), segments.end(), [&](const Unseen& s) {
      return dot(s.normal, e.normal) > alike * norm(s.normal) &&
             distance(s.places.front(), e.place) < near_by;
    });
    if (own == segments.end()) {
      segments.push_back({e.normal, {e.place}});
      continue;
    }
    own->normal += e.normal;
    own->places.push_back(e.place);
  }
  // A few edges may match by chance.
  constexpr size_t min_places = 6;
  std::erase_if(segments, [](const Unseen& s) { return s.places.size() < min_places; });
  for (Unseen& s : segments) s.normal = s.normal * (1 / norm(s.normal));
  return segments;
}

/// How far along its normal a stretch meets an edge with most of its places, level-0 pixels.
std::vector<double> where_met(const Unseen& segment, const Candidate& c, const PatternSearch& search) {
  constexpr int max_reach = 128;  // pixels of the level that is looked at
  const Box& extent = search.target.extent();
  const double along = std::abs(segment.normal.x) * extent.width + std::abs(segment.normal.y) * extent.height,
               far = 0.6 * along * c.pose.scale;
  int level = 0;
  while (far > max_reach * std::ldexp(1.0, level) && level + 1 < search.prepared.level_count()) ++level;
  const ImageView<const uint8_t> picture = search.prepared.level(level).view();
  const int reach = std::min(max_reach, static_cast<int>(far / std::ldexp(1.0, level)));
  const Point2 normal = rotated(segment.normal, c.pose.angle);
  const double contrast =
      level == 0 ? search.reach.min_contrast : 0.5 * std::min(search.reach.min_contrast, 16.0);
  std::vector<int> met(static_cast<size_t>(2 * reach + 1));
  std::vector<double> values(static_cast<size_t>(2 * reach + 3));
  for (const Point2& place : segment.places) {
    const Point2 at = to_level(c.pose * place, level);
    for (int k = -reach - 1; k <= reach + 1; ++k) {
      const Point2 p = at + normal * k;
      values[static_cast<size_t>(k + reach + 1)] =
          can_sample_inside(picture, p) ? bilinear_inside(picture, p.x, p.y) : std::nan("");
    }
    const auto rise = [&](int k) {
      const double up = values[static_cast<size_t>(k + 2)] - values[static_cast<size_t>(k)];
      return c.rise == GradientSign::either ? std::abs(up) : c.rise == GradientSign::down ? -up : up;
    };
    for (int k = 1; k < 2 * reach; ++k)
      if (rise(k) >= contrast && rise(k) > rise(k - 1) && rise(k) >= rise(k + 1))
        ++met[static_cast<size_t>(k)];
  }
  std::vector<double> offsets;
  for (int k = 1; k < 2 * reach; ++k) {
    const int before = met[static_cast<size_t>(k - 1)], here = met[static_cast<size_t>(k)],
              after = met[static_cast<size_t>(k + 1)], all = before + here + after;
    if (2 * all < static_cast<int>(segment.places.size()) || here < before || here <= after) continue;
    offsets.push_back((k - reach + (after - before) / static_cast<double>(all)) * std::ldexp(1.0, level));
  }
  return offsets;
}

}  // namespace

std::vector<Similarity2> slides_of(const Candidate& c, const PatternSearch& search) {
  struct Slid {
    Similarity2 pose;
    double score;
  };
  std::vector<Slid> slides;
  const auto slid_by = [&](Point2 by) {
    Similarity2 pose = c.pose;
    pose.x += by.x, pose.y += by.y;
    return Slid{pose, see_edges(search.prepared.level(0), search.target.few_columns(), pose,
                                search.reach.min_contrast, c.rise)
                          .score};
  };
  for (const Unseen& segment : unseen_stretches(c, search.target))
    for (const double offset : where_met(segment, c, search)) {
      const Point2 along = rotated(segment.normal, c.pose.angle);
      // A pixel to either side as well: where the hidden edge and the one that is met lie near each other, a
      // fit from between them may end at either.
      for (const double by : {offset - 1, offset, offset + 1})
        if (std::abs(by) >= 1) slides.push_back(slid_by(along * by));
    }
  std::stable_sort(slides.begin(), slides.end(),
                   [](const Slid& a, const Slid& b) { return a.score > b.score; });
  std::vector<Similarity2> best;
  constexpr size_t most = 6;
  constexpr double may_gain = 25;  // of the score, when it is fitted
  for (const Slid& s : slides)
    if (best.size() < most && s.score > c.score - may_gain) best.push_back(s.pose);
  return best;
}

}  // namespace heron
