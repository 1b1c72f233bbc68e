#include "coarse_hits.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "heron/image/image.hpp"
#include "heron/image/pyramid.hpp"

namespace heron {

/// A byte for each pixel of a box that holds some points, of which there is at least one.
class CoarseHits::PointMap {
 public:
  PointMap(const std::vector<Point2>& points, double margin) {
    Point2 low{1e9, 1e9}, high{-1e9, -1e9};
    for (const Point2& p : points) {
      low = {std::min(low.x, p.x), std::min(low.y, p.y)};
      high = {std::max(high.x, p.x), std::max(high.y, p.y)};
    }
    corner_ = {std::floor(low.x - margin), std::floor(low.y - margin)};
    map_ = Image<uint8_t>(static_cast<int>(high.x + margin - corner_.x) + 2,
                          static_cast<int>(high.y + margin - corner_.y) + 2);
  }
  uint8_t at(Point2 p) const { return map_(column(p), row(p)); }
  /// Raises what is lower to `value`, within `radius` of `p`.
  void raise(Point2 p, double radius, uint8_t value) {
    const auto reach = static_cast<int>(radius);
    for (int v = -reach; v <= reach; ++v) {
      const auto half = static_cast<int>(std::sqrt(radius * radius - v * v));
      uint8_t* there = map_.row(row(p) + v) + column(p) - half;
      for (int i = 0; i <= 2 * half; ++i) there[i] = std::max(there[i], value);
    }
  }

 private:
  int column(Point2 p) const { return static_cast<int>(p.x - corner_.x + 0.5); }
  int row(Point2 p) const { return static_cast<int>(p.y - corner_.y + 0.5); }

  Point2 corner_;
  Image<uint8_t> map_;
};

/// Hits that are kept, their poses listed at every place of a window within two pixels of them.
class CoarseHits::KeptHits {
 public:
  explicit KeptHits(const CoarseWindow& window) : first_(window.width, window.height) {}
  void add(const PlacedHit& hit) {
    constexpr int reach = 2;
    for (int y = std::max(0, hit.at.y - reach); y <= std::min(first_.height() - 1, hit.at.y + reach); ++y)
      for (int x = std::max(0, hit.at.x - reach); x <= std::min(first_.width() - 1, hit.at.x + reach); ++x) {
        entries_.push_back({hit.pose, first_(x, y)});
        first_(x, y) = static_cast<int32_t>(entries_.size());
      }
  }
  /// Whether `covers` says so of the pose of any near a hit.
  template <class Covers>
  bool any_near(const PlacedHit& hit, Covers covers) const {
    for (int32_t i = first_(hit.at.x, hit.at.y); i > 0;) {
      const Entry& entry = entries_[static_cast<size_t>(i - 1)];
      if (covers(entry.pose)) return true;
      i = entry.next;
    }
    return false;
  }

 private:
  struct Entry {
    int pose;
    int32_t next;
  };
  Image<int32_t> first_;  ///< entry and one of each place; 0 where nothing is near
  std::vector<Entry> entries_;
};

CoarseHits::CoarseHits(std::vector<PlacedHit> hits, PoseGrid grid, const std::vector<Point2>& middles,
                       const Rules& rules)
    : hits_(std::move(hits)),
      grid_(std::move(grid)),
      rules_(rules),
      most_ratio_(std::pow(grid_.scale_step, 1.5)) {
  if (hits_.empty()) return;
  for (const PlacedHit& hit : hits_)
    places_.push_back(Point2{static_cast<double>(hit.at.x), static_cast<double>(hit.at.y)} +
                      middles[static_cast<size_t>(hit.pose)]);
  kept_ = std::make_unique<KeptHits>(rules.window);
  lowest_ = std::make_unique<PointMap>(places_, rules.spot);
}

CoarseHits::CoarseHits() = default;
CoarseHits::CoarseHits(CoarseHits&&) noexcept = default;
CoarseHits::~CoarseHits() = default;

std::vector<CoarseHit> CoarseHits::next(size_t most, const std::function<bool(const CoarseHit&)>& known) {
  std::vector<CoarseHit> result;
  for (; next_ < hits_.size() && result.size() < most; ++next_) {
    const PlacedHit& hit = hits_[next_];
    if (hit.at.sum < lowest_->at(places_[next_]) || is_covered(hit)) continue;
    kept_->add(hit);
    lowest_->raise(places_[next_], rules_.spot, static_cast<uint8_t>(std::ceil(rules_.echo * hit.at.sum)));
    const CoarseHit told = told_of(hit);
    if (!known(told)) result.push_back(told);
  }
  return result;
}

bool CoarseHits::is_covered(const PlacedHit& hit) const {
  constexpr double turn = 2 * std::numbers::pi;
  const GridPose& a = grid_.poses[static_cast<size_t>(hit.pose)];
  return kept_->any_near(hit, [&](int pose) {
    const GridPose& b = grid_.poses[static_cast<size_t>(pose)];
    const double turned = std::abs(a.angle.radians() - b.angle.radians());
    return std::min(turned, std::abs(turn - turned)) < 2.5 * grid_.angle_step + 1e-9 &&
           a.scale < b.scale * most_ratio_ && b.scale < a.scale * most_ratio_;
  });
}

CoarseHit CoarseHits::told_of(const PlacedHit& hit) const {
  const GridPose& pose = grid_.poses[static_cast<size_t>(hit.pose)];
  const Point2 p{static_cast<double>(hit.at.x + rules_.window.x0),
                 static_cast<double>(hit.at.y + rules_.window.y0)};
  return {from_level(p, rules_.level), pose.angle.wrapped(), pose.scale, hit.at.sum / rules_.full};
}

}  // namespace heron
