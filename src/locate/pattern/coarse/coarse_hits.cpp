#include "coarse_hits.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <utility>

#include "heron/image/image.hpp"
#include "heron/image/pyramid.hpp"

namespace heron {

/// How far from a hit that is kept others of nearly its angle are left out, in columns and rows.
static constexpr int neighbour_reach = 2;

/// A byte for each place where the middle of a hit may lie, the middles of each pose shifted to whole pixels.
class CoarseHits::PointMap {
 public:
  PointMap(const CoarseWindow& window, const std::vector<Point2>& middles) : shifts_(middles.size()) {
    std::transform(middles.begin(), middles.end(), shifts_.begin(), [](Point2 p) {
      return Pixel{nearest(p.x), nearest(p.y)};
    });
    corner_ = shifts_[0];
    Pixel last = corner_;
    for (const Pixel& shift : shifts_) {
      corner_ = {std::min(corner_.x, shift.x), std::min(corner_.y, shift.y)};
      last = {std::max(last.x, shift.x), std::max(last.y, shift.y)};
    }
    map_ = Image<uint8_t>(window.width + last.x - corner_.x, window.height + last.y - corner_.y);
  }
  uint8_t at(const PlacedHit& hit) const {
    const Pixel p = place_of(hit);
    return map_(p.x - corner_.x, p.y - corner_.y);
  }
  /// Raises what is lower to `value`, within a disc around the middle of a hit or around a point.
  void raise(const PlacedHit& hit, const Disc& disc, uint8_t value) { raise(place_of(hit), disc, value); }
  void raise(Point2 p, const Disc& disc, uint8_t value) {
    raise(Pixel{nearest(p.x), nearest(p.y)}, disc, value);
  }

 private:
  struct Pixel {
    int x, y;
  };
  Pixel place_of(const PlacedHit& hit) const {
    const Pixel& shift = shifts_[static_cast<size_t>(hit.pose)];
    return {hit.x + shift.x, hit.y + shift.y};
  }
  void raise(Pixel p, const Disc& disc, uint8_t value) {
    const auto reach = static_cast<int>(disc.halves.size() / 2);
    const int x = p.x - corner_.x, y = p.y - corner_.y;
    for (int v = std::max(-reach, -y); v <= std::min(reach, map_.height() - 1 - y); ++v) {
      const int half = disc.halves[static_cast<size_t>(v + reach)];
      const int left = std::max(0, x - half), right = std::min(map_.width() - 1, x + half);
      uint8_t* there = map_.row(y + v);
      for (int i = left; i <= right; ++i) there[i] = std::max(there[i], value);
    }
  }

  std::vector<Pixel> shifts_;  ///< of each pose, from its origin to its middle
  Pixel corner_;
  Image<uint8_t> map_;
};

CoarseHits::Disc::Disc(double radius) {
  const auto reach = static_cast<int>(radius);
  for (int v = -reach; v <= reach; ++v)
    halves.push_back(static_cast<int>(std::sqrt(radius * radius - v * v)));
}

size_t keep_best(std::span<std::vector<PlacedHit>> lists, size_t count, size_t most, bool give_back) {
  if (count <= most) return count;
  std::array<size_t, 256> with{};
  for (const std::vector<PlacedHit>& hits : lists)
    for (const PlacedHit& hit : hits) ++with[hit.sum];
  size_t least = 255, left = most;  // of the lowest sum that is kept, so many
  for (; with[least] < left; --least) left -= with[least];
  for (std::vector<PlacedHit>& hits : lists) {
    std::erase_if(hits, [&](const PlacedHit& hit) {
      if (hit.sum != least) return hit.sum < least;
      return left == 0 || left-- == 0;
    });
    if (give_back) hits.shrink_to_fit();
  }
  return most;
}

CoarseHits::CoarseHits(const HitLists& hits, PoseGrid grid, const std::vector<Point2>& middles,
                       const Rules& rules)
    : grid_(std::move(grid)), rules_(rules), spot_(rules.spot) {
  sort(hits);
  if (best_first_.empty()) return;
  neighbours_ = std::make_unique<MarkedPlaces>(grid_.poses.size(), rules_.window.width, rules_.window.height,
                                               neighbour_reach);
  lowest_ = std::make_unique<PointMap>(rules_.window, middles);
}

CoarseHits::CoarseHits() = default;
CoarseHits::CoarseHits(CoarseHits&&) noexcept = default;
CoarseHits::~CoarseHits() = default;

/// By counting; what is equally good stays in its order.
void CoarseHits::sort(const HitLists& lists) {
  std::array<uint32_t, 256> place{};  // first, how many are one worse; then where such begin
  for (const std::vector<PlacedHit>& hits : lists)
    for (const PlacedHit& hit : hits) ++place[255U - hit.sum];
  uint32_t count = 0;
  for (uint32_t& its : place) its = std::exchange(count, count + its);
  best_first_.resize(count);
  for (const std::vector<PlacedHit>& hits : lists)
    for (const PlacedHit& hit : hits) best_first_[place[255U - hit.sum]++] = hit;
}

bool CoarseHits::is_known(const PlacedHit& hit) const {
  const bool near = neighbours_->at(static_cast<size_t>(hit.pose), hit.x, hit.y),
             low = hit.sum < lowest_->at(hit);
  return near | low;
}

/// Many hits at once, without a branch for each: most are left out, and no hit foretells the next.
void CoarseHits::drop_known() {
  size_t left = next_;
  for (size_t i = next_; i < best_first_.size(); ++i) {
    const PlacedHit hit = best_first_[i];
    best_first_[left] = hit;
    left += static_cast<size_t>(!is_known(hit));
  }
  best_first_.resize(left);
  asked_for_ = false;
}

std::vector<CoarseHit> CoarseHits::next(size_t most) {
  if (asked_for_) drop_known();
  std::vector<CoarseHit> result;
  for (; next_ < best_first_.size() && result.size() < most; ++next_) {
    const PlacedHit& hit = best_first_[next_];
    if (is_known(hit)) continue;
    mark_neighbours(hit);
    lowest_->raise(hit, spot_, static_cast<uint8_t>(std::ceil(rules_.echo * hit.sum)));
    result.push_back(report_at_origin(hit));
  }
  return result;
}

void CoarseHits::ask_for(double likeness, Point2 middle, double reach) {
  if (!lowest_) return;
  const Point2 at = to_level(middle, rules_.level) -
                    Point2{static_cast<double>(rules_.window.x0), static_cast<double>(rules_.window.y0)};
  lowest_->raise(at, Disc(std::ldexp(reach, -rules_.level)),
                 static_cast<uint8_t>(std::clamp(std::ceil(likeness * rules_.full), 0.0, 255.0)));
  asked_for_ = true;
}

/// Within two pixels and two and a half steps of angle, of the same scale. In another scale it may be the
/// worse one that is the part's: a strip over an edge answers as well as the edge of a larger or smaller
/// part.
void CoarseHits::mark_neighbours(const PlacedHit& hit) {
  constexpr double turn = 2 * std::numbers::pi;
  const double angle = grid_.poses[static_cast<size_t>(hit.pose)].angle.radians();
  const auto its_turn = std::find_if(grid_.turns.begin(), grid_.turns.end(),
                                     [&](const PoseGrid::Turn& t) { return hit.pose < t.first + t.count; });
  const PoseGrid::Turn& t = *its_turn;
  const double near_by = (2.5 * grid_.angle_step + 1e-6) / t.step;
  for (const double again : {-turn, 0.0, turn}) {
    const double from_start = (angle + again - t.from) / t.step;
    const int first = std::max(0, nearest(from_start - near_by + 0.5)),
              last = std::min(t.count - 1, nearest(from_start + near_by - 0.5));
    for (int i = first; i <= last; ++i)
      neighbours_->mark_around(static_cast<size_t>(t.first + i), hit.x, hit.y);
  }
}

CoarseHit CoarseHits::report_at_origin(const PlacedHit& hit) const {
  const GridPose& pose = grid_.poses[static_cast<size_t>(hit.pose)];
  const Point2 p{static_cast<double>(hit.x + rules_.window.x0),
                 static_cast<double>(hit.y + rules_.window.y0)};
  return {from_level(p, rules_.level), pose.angle.wrapped(), pose.scale, hit.sum / rules_.full};
}

}  // namespace heron
