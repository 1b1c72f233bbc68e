#pragma once
#include <functional>
#include <memory>
#include <vector>

#include "heron/base/pose.hpp"
#include "heron/image/region.hpp"
#include "sum_rows.hpp"

namespace heron {

/// A pose worth a closer look.
struct CoarseHit {
  Point2 place;  ///< of the origin, picture coordinates of level 0
  Angle angle;
  double scale = 1;
  double likeness = 0;  ///< 0 to 1: share of the coarse edges met, one level pixel and one direction step
                        ///< either way forgiven
};

struct GridPose {
  Angle angle;
  double scale;
};

struct PoseGrid {
  std::vector<GridPose> poses;
  double angle_step = 0;  // radians
  double scale_step = 1;  // ratio
};

/// The origins that are tried, in pixels of the coarse level.
struct CoarseWindow {
  int x0, y0, width, height;
};

/// An origin, from the window's corner, and a pose of the grid.
struct PlacedHit {
  RowHit at;
  int pose;
};

/// What the coarse search found, to be taken a few hundred at a time, best first. A hit next to a better one
/// in place, angle and scale is left out, and so is one whose middle lies within `spot` pixels of that of a
/// much better one: the same part in another pose.
class CoarseHits {
 public:
  struct Rules {
    CoarseWindow window;
    int level;
    double full;  ///< the sum of what is the target in every edge
    double spot;  ///< pixels of the coarse level
    double echo;  ///< of what is better, on its spot, so much must a hit have
  };
  CoarseHits();  ///< none
  /// Hits best first. `middles` holds where the part's middle, which unlike its origin always lies on it, is
  /// from the origin, for each pose of the grid.
  CoarseHits(std::vector<PlacedHit> hits, PoseGrid grid, std::vector<Point2> middles, const Rules& rules);
  CoarseHits(CoarseHits&&) noexcept;
  ~CoarseHits();

  /// At most `most` more, without those that are `known`; fewer when there are no more. Cost: some tens of
  /// nanoseconds for each hit that is passed over.
  std::vector<CoarseHit> next(size_t most, const std::function<bool(const CoarseHit&)>& known);

  /// From now on leaves out what has its middle in the box of a part, `extent` in the target's own frame, and
  /// less than that likeness.
  void pass_over(const Similarity2& pose, const Box& extent, double likeness);

 private:
  class KeptHits;
  class PointMap;
  bool is_covered(const PlacedHit& hit) const;
  Point2 middle_of(const PlacedHit& hit) const;
  CoarseHit told_of(const PlacedHit& hit) const;

  std::vector<PlacedHit> hits_;
  std::vector<Point2> middles_;
  size_t next_ = 0;
  PoseGrid grid_;
  Rules rules_{};
  double most_ratio_ = 1;  ///< of scales that are next to each other
  std::unique_ptr<KeptHits> kept_;
  std::unique_ptr<PointMap> lowest_;  ///< what a hit at each place must have
};

}  // namespace heron
