#include "coarse_hits.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <utility>

#include "heron/image/image.hpp"
#include "heron/image/pyramid.hpp"
#include "mark_near.hpp"

namespace heron {

/// Hits lie together for so many rows.
static constexpr int few_rows = 8;

/// A byte for each pixel of a box.
class CoarseHits::PointMap {
 public:
  PointMap(Point2 low, Point2 high)
      : corner_{std::floor(low.x), std::floor(low.y)},
        map_(static_cast<int>(high.x - corner_.x) + 2, static_cast<int>(high.y - corner_.y) + 2) {}
  uint8_t at(Point2 p) const { return map_(column(p), row(p)); }
  /// Raises what is lower to `value`, within a disc around `p`.
  void raise(Point2 p, const Disc& disc, uint8_t value) {
    const auto reach = static_cast<int>(disc.halves.size() / 2);
    const int x = column(p), y = row(p);
    for (int v = std::max(-reach, -y); v <= std::min(reach, map_.height() - 1 - y); ++v) {
      const int half = disc.halves[static_cast<size_t>(v + reach)];
      const int left = std::max(0, x - half), right = std::min(map_.width() - 1, x + half);
      uint8_t* there = map_.row(y + v);
      for (int i = left; i <= right; ++i) there[i] = std::max(there[i], value);
    }
  }

 private:
  int column(Point2 p) const { return nearest(p.x - corner_.x); }
  int row(Point2 p) const { return nearest(p.y - corner_.y); }

  Point2 corner_;
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

CoarseHits::CoarseHits(const HitLists& hits, PoseGrid grid, std::vector<Point2> middles, const Rules& rules)
    : middles_(std::move(middles)), grid_(std::move(grid)), rules_(rules), spot_(rules.spot) {
  sort(hits);
  if (best_first_.empty()) return;
  Point2 low{1e9, 1e9}, high{-1e9, -1e9};  // of where middles lie: an origin may be far from its part
  for (size_t pose = 0; pose < grid_.poses.size(); ++pose) {
    const auto rows = pose * static_cast<size_t>(rows_a_pose_);
    const size_t first = first_of_rows_[rows], end = first_of_rows_[rows + static_cast<size_t>(rows_a_pose_)];
    if (first == end) continue;
    int left = x_[first], right = left, top = y_[first], bottom = top;
    for (size_t i = first; i < end; ++i) {
      left = std::min(left, x_[i]), right = std::max(right, x_[i]);
      top = std::min(top, y_[i]), bottom = std::max(bottom, y_[i]);
    }
    const Point2 middle = middles_[pose];
    low = {std::min(low.x, left + middle.x), std::min(low.y, top + middle.y)};
    high = {std::max(high.x, right + middle.x), std::max(high.y, bottom + middle.y)};
  }
  lowest_ = std::make_unique<PointMap>(low, high);
}

CoarseHits::CoarseHits() = default;
CoarseHits::CoarseHits(CoarseHits&&) noexcept = default;
CoarseHits::~CoarseHits() = default;

/// By pose and rows, and by sum; both by counting.
void CoarseHits::sort(const HitLists& lists) {
  const auto place_after = [](auto& counts) {  // each count becomes where its own begin
    uint32_t place = 0;
    for (uint32_t& count : counts) count = std::exchange(place, place + count);
    return place;
  };
  rows_a_pose_ = (rules_.window.height - 1) / few_rows + 1;
  const auto rows_of = [&](const PlacedHit& hit) {
    return static_cast<size_t>(hit.pose * rows_a_pose_ + hit.y / few_rows);
  };
  std::vector<uint32_t> place(grid_.poses.size() * static_cast<size_t>(rows_a_pose_) + 1);
  for (const std::vector<PlacedHit>& hits : lists)
    for (const PlacedHit& hit : hits) ++place[rows_of(hit)];
  const size_t count = place_after(place);
  first_of_rows_ = place;
  constexpr size_t widest_vector = 16;
  for (std::vector<int32_t>* column : {&x_, &y_, &pose_, &covered_}) column->resize(count + widest_vector);
  sum_.resize(count), best_first_.resize(count);
  std::array<uint32_t, 256> lower{};  // how many have the sum that lies so far below 255
  for (const std::vector<PlacedHit>& hits : lists)
    for (const PlacedHit& hit : hits) {
      const size_t at = place[rows_of(hit)]++;
      x_[at] = hit.x, y_[at] = hit.y, pose_[at] = hit.pose, sum_[at] = hit.sum;
      ++lower[255U - hit.sum];
    }
  place_after(lower);
  for (size_t i = 0; i < sum_.size(); ++i) best_first_[lower[255U - sum_[i]]++] = static_cast<uint32_t>(i);
}

std::vector<CoarseHit> CoarseHits::next(size_t most) {
  std::vector<CoarseHit> result;
  for (; next_ < best_first_.size() && result.size() < most; ++next_) {
    const size_t hit = best_first_[next_];
    if (covered_[hit]) continue;
    const Point2 middle = middle_of(hit);
    if (sum_[hit] < lowest_->at(middle)) continue;
    cover_neighbours(hit);
    lowest_->raise(middle, spot_, static_cast<uint8_t>(std::ceil(rules_.echo * sum_[hit])));
    result.push_back(told_of(hit));
  }
  return result;
}

void CoarseHits::ask_for(double likeness, Point2 middle, double reach) {
  if (!lowest_) return;
  const Point2 at = to_level(middle, rules_.level) -
                    Point2{static_cast<double>(rules_.window.x0), static_cast<double>(rules_.window.y0)};
  lowest_->raise(at, Disc(std::ldexp(reach, -rules_.level)),
                 static_cast<uint8_t>(std::clamp(std::ceil(likeness * rules_.full), 0.0, 255.0)));
}

/// Those of its scale within two pixels and two and a half steps of angle. In another scale it may be the
/// worse one that is the part's: a strip over an edge answers as well as the edge of a larger or smaller
/// part.
void CoarseHits::cover_neighbours(size_t hit) {
  constexpr int reach = 2;
  constexpr double turn = 2 * std::numbers::pi;
  const GridPose& pose = grid_.poses[static_cast<size_t>(pose_[hit])];
  const int x = x_[hit], y = y_[hit];
  const double near_by = 2.5 * grid_.angle_step + 1e-6;
  const auto few_from = static_cast<size_t>(std::max(0, y - reach) / few_rows),
             few_end = static_cast<size_t>(std::min(rules_.window.height - 1, y + reach) / few_rows + 1);
  const auto cover_in = [=, this](size_t its_pose) {
    const uint32_t* first_of = first_of_rows_.data() + its_pose * static_cast<size_t>(rows_a_pose_);
    const size_t first = first_of[few_from];
    mark_near(x_.data() + first, y_.data() + first, first_of[few_end] - first, x, y, reach,
              covered_.data() + first);
  };
  for (const PoseGrid::Turn& t : grid_.turns) {
    if (t.scale != pose.scale) continue;
    for (const double again : {-turn, 0.0, turn}) {
      const double from_start = pose.angle.radians() + again - t.from;
      const int last = std::min(t.count - 1, static_cast<int>(std::floor((from_start + near_by) / t.step)));
      for (int i = std::max(0, static_cast<int>(std::ceil((from_start - near_by) / t.step))); i <= last; ++i)
        cover_in(static_cast<size_t>(t.first + i));
    }
  }
}

Point2 CoarseHits::middle_of(size_t hit) const {
  return Point2{static_cast<double>(x_[hit]), static_cast<double>(y_[hit])} +
         middles_[static_cast<size_t>(pose_[hit])];
}

CoarseHit CoarseHits::told_of(size_t hit) const {
  const GridPose& pose = grid_.poses[static_cast<size_t>(pose_[hit])];
  const Point2 p{static_cast<double>(x_[hit] + rules_.window.x0),
                 static_cast<double>(y_[hit] + rules_.window.y0)};
  return {from_level(p, rules_.level), pose.angle.wrapped(), pose.scale, sum_[hit] / rules_.full};
}

}  // namespace heron
