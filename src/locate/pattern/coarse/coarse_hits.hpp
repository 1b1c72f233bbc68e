#pragma once
#include <memory>
#include <span>
#include <vector>

#include "heron/base/pose.hpp"
#include "marked_places.hpp"
#include "sum_rows.hpp"

namespace heron {

/// A pose to be refined.
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
  /// The poses of one scale.
  struct Turn {
    int first, count;
    double scale, from, step;  // angles in radians
  };
  std::vector<GridPose> poses;  ///< turn after turn, angle after angle
  std::vector<Turn> turns;
  double angle_step = 0;  // radians
};

/// The nearest whole number, for what is not beyond a million; `std::lround` is a call.
inline int nearest(double v) { return static_cast<int>(v + 1048576.5) - 1048576; }

/// The origins that are tried, in pixels of the coarse level.
struct CoarseWindow {
  int x0, y0, width, height;
};

/// Of origins from the window's corner, and poses of the grid.
using HitLists = std::vector<std::vector<PlacedHit>>;

/// Of `count` hits keeps at most `most`, those with the highest sums, of equal ones the first; their order
/// stays. Returns how many are left. With `give_back` their lists give the room back that they had for more.
size_t keep_best(std::span<std::vector<PlacedHit>> lists, size_t count, size_t most, bool give_back = false);

/// What the coarse search found, to be taken a few hundred at a time, best first. A hit next to a better one
/// in place and angle, of the same scale, is left out, and so is one whose middle lies within `spot` pixels
/// of that of a much better one: the same part in another pose.
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
  /// `middles` holds where the part's middle, which unlike its origin always lies on it, is from the origin,
  /// for each pose of the grid.
  CoarseHits(const HitLists& hits, PoseGrid grid, const std::vector<Point2>& middles, const Rules& rules);
  CoarseHits(CoarseHits&&) noexcept;
  ~CoarseHits();

  /// At most `most` more; fewer when there are no more. Cost: some nanoseconds for each hit that is left out,
  /// some hundred for each that is not.
  std::vector<CoarseHit> next(size_t most);
  /// From now on leaves out all hits of less than that likeness whose middles lie within `reach` of `middle`,
  /// in pixels of level 0.
  void ask_for(double likeness, Point2 middle, double reach);

 private:
  class PointMap;
  struct Disc {
    explicit Disc(double radius = 0);
    std::vector<int> halves;  ///< of each row, pixels either side of the middle's column
  };
  void sort(const HitLists& hits);
  bool is_known(const PlacedHit& hit) const;
  void drop_known();
  void mark_neighbours(const PlacedHit& hit);
  CoarseHit report_at_origin(const PlacedHit& hit) const;

  std::vector<PlacedHit> best_first_;
  size_t next_ = 0;         ///< of `best_first_`
  bool asked_for_ = false;  ///< since hits were last dropped
  PoseGrid grid_;
  Rules rules_{};
  Disc spot_;
  std::unique_ptr<MarkedPlaces> neighbours_;  ///< of what was kept
  std::unique_ptr<PointMap> lowest_;          ///< what a hit whose middle lies there must have
};

}  // namespace heron
