#include "coarse_hits.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "heron/image/image.hpp"
#include "heron/image/pyramid.hpp"

namespace heron {

/// A byte for each pixel of a box.
class CoarseHits::PointMap {
 public:
  PointMap(Point2 low, Point2 high)
      : corner_{std::floor(low.x), std::floor(low.y)},
        map_(static_cast<int>(high.x - corner_.x) + 2, static_cast<int>(high.y - corner_.y) + 2) {}
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
  /// The same in a box that lies anywhere: around `middle`, from there `along` and `across` to its sides.
  void raise(Point2 middle, Point2 along, Point2 across, uint8_t value) {
    const Point2 reach{std::abs(along.x) + std::abs(across.x), std::abs(along.y) + std::abs(across.y)},
        from = middle - corner_ - reach, to = middle - corner_ + reach;
    const double far_along = dot(along, along), far_across = dot(across, across);
    for (int y = std::max(0, static_cast<int>(std::ceil(from.y)));
         y <= std::min(map_.height() - 1, static_cast<int>(std::floor(to.y))); ++y)
      for (int x = std::max(0, static_cast<int>(std::ceil(from.x)));
           x <= std::min(map_.width() - 1, static_cast<int>(std::floor(to.x))); ++x) {
        const Point2 off = Point2{static_cast<double>(x), static_cast<double>(y)} + corner_ - middle;
        if (std::abs(dot(off, along)) <= far_along && std::abs(dot(off, across)) <= far_across)
          map_(x, y) = std::max(map_(x, y), value);
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
  void add(const PlacedHit& hit, const GridPose& pose) {
    constexpr int reach = 2;
    for (int y = std::max(0, hit.at.y - reach); y <= std::min(first_.height() - 1, hit.at.y + reach); ++y)
      for (int x = std::max(0, hit.at.x - reach); x <= std::min(first_.width() - 1, hit.at.x + reach); ++x) {
        entries_.push_back(
            {static_cast<float>(pose.angle.radians()), static_cast<float>(pose.scale), first_(x, y)});
        first_(x, y) = static_cast<int32_t>(entries_.size());
      }
  }
  /// Whether `covers` says so of angle and scale of any near a hit.
  template <class Covers>
  bool any_near(const PlacedHit& hit, Covers covers) const {
    for (int32_t i = first_(hit.at.x, hit.at.y); i > 0;) {
      const Entry& entry = entries_[static_cast<size_t>(i - 1)];
      if (covers(entry.angle, entry.scale)) return true;
      i = entry.next;
    }
    return false;
  }

 private:
  struct Entry {
    float angle, scale;
    int32_t next;
  };
  Image<int32_t> first_;  ///< entry and one of each place; 0 where nothing is near
  std::vector<Entry> entries_;
};

CoarseHits::CoarseHits(std::vector<PlacedHit> hits, PoseGrid grid, std::vector<Point2> middles,
                       const Rules& rules)
    : hits_(std::move(hits)),
      middles_(std::move(middles)),
      grid_(std::move(grid)),
      rules_(rules),
      most_ratio_(std::pow(grid_.scale_step, 1.5)) {
  if (hits_.empty()) return;
  Point2 low{1e9, 1e9}, high{-1e9, -1e9};  // of where middles lie: an origin may be far from its part
  for (const PlacedHit& hit : hits_) {
    const Point2 middle = middle_of(hit);
    low = {std::min(low.x, middle.x), std::min(low.y, middle.y)};
    high = {std::max(high.x, middle.x), std::max(high.y, middle.y)};
  }
  const Point2 margin{rules.spot, rules.spot};
  kept_ = std::make_unique<KeptHits>(rules.window);
  lowest_ = std::make_unique<PointMap>(low - margin, high + margin);
}

CoarseHits::CoarseHits() = default;
CoarseHits::CoarseHits(CoarseHits&&) noexcept = default;
CoarseHits::~CoarseHits() = default;

std::vector<CoarseHit> CoarseHits::next(size_t most, const std::function<bool(const CoarseHit&)>& known) {
  std::vector<CoarseHit> result;
  for (; next_ < hits_.size() && result.size() < most; ++next_) {
    const PlacedHit& hit = hits_[next_];
    const Point2 middle = middle_of(hit);
    if (hit.at.sum < lowest_->at(middle) || is_covered(hit)) continue;
    kept_->add(hit, grid_.poses[static_cast<size_t>(hit.pose)]);
    lowest_->raise(middle, rules_.spot, static_cast<uint8_t>(std::ceil(rules_.echo * hit.at.sum)));
    const CoarseHit told = told_of(hit);
    if (!known(told)) result.push_back(told);
  }
  return result;
}

void CoarseHits::pass_over(const Similarity2& pose, const Box& extent, double likeness) {
  if (!lowest_) return;
  const double to = std::ldexp(1.0, -rules_.level);
  const Point2 corner{static_cast<double>(rules_.window.x0), static_cast<double>(rules_.window.y0)};
  const Point2 along = rotated(Point2{1, 0}, pose.angle) * (pose.scale * to), across{-along.y, along.x};
  lowest_->raise(to_level(pose * extent.centre(), rules_.level) - corner, along * (0.5 * extent.width),
                 across * (0.5 * extent.height),
                 static_cast<uint8_t>(std::clamp(std::ceil(likeness * rules_.full), 0.0, 255.0)));
}

bool CoarseHits::is_covered(const PlacedHit& hit) const {
  constexpr auto turn = static_cast<float>(2 * std::numbers::pi);
  const GridPose& pose = grid_.poses[static_cast<size_t>(hit.pose)];
  const auto near_by = static_cast<float>(2.5 * grid_.angle_step + 1e-6),
             its_angle = static_cast<float>(pose.angle.radians()),
             largest = static_cast<float>(pose.scale * most_ratio_),
             smallest = static_cast<float>(pose.scale / most_ratio_);
  return kept_->any_near(hit, [&](float angle, float scale) {
    const float turned = std::abs(angle - its_angle);
    return std::min(turned, std::abs(turn - turned)) < near_by && scale < largest && scale > smallest;
  });
}

Point2 CoarseHits::middle_of(const PlacedHit& hit) const {
  return Point2{static_cast<double>(hit.at.x), static_cast<double>(hit.at.y)} +
         middles_[static_cast<size_t>(hit.pose)];
}

CoarseHit CoarseHits::told_of(const PlacedHit& hit) const {
  const GridPose& pose = grid_.poses[static_cast<size_t>(hit.pose)];
  const Point2 p{static_cast<double>(hit.at.x + rules_.window.x0),
                 static_cast<double>(hit.at.y + rules_.window.y0)};
  return {from_level(p, rules_.level), pose.angle.wrapped(), pose.scale, hit.at.sum / rules_.full};
}

}  // namespace heron
