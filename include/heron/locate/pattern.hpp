#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "heron/base/range.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"
#include "heron/locate/limits.hpp"
#include "heron/locate/setting.hpp"
#include "heron/locate/sighting.hpp"
#include "heron/locate/taught.hpp"

namespace heron {

/// How a pattern is taught.
struct PatternSettings {
  std::string name = "pattern";
  std::optional<Point2> origin =
      {};  ///< which point of the picture is the part's position; its region's centre unless given
  double least_strength = 0;  ///< grey levels over two pixels from which on an edge is taught; 0 chooses by
                              ///< the region's strongest edges
  int detail = 0;  ///< 0 teaches every edge; 1, 2, 3 only those that the picture halved so often still shows
  double height_step_mm = 0;  ///< above 0: taught from the relief of a height map (image/relief.hpp) with
                              ///< this step; contrasts and strengths are then millimetres everywhere
  FindLimits limits = {};     ///< kept with the target, used when a find names none
  PartPlace place = {};       ///< kept with the target
};

/// One edge of the taught part.
struct TaughtEdge {
  Point2 place;   ///< from the origin, pixels of the taught picture
  Point2 normal;  ///< unit, from dark to bright
};

/// The edges of one level as columns, the form that the search reads. Each column is filled up with copies of
/// its last value, so that whole vectors can be read.
struct EdgeColumns {
  size_t count = 0;
  std::vector<float> x, y, normal_x, normal_y;
  std::vector<int> cell;  ///< 8 x 8 pixels of the taught picture each; edges of one cell err together
  int cells = 0;
  std::vector<int> stretch;  ///< edges near each other that point much the same way
  int stretches = 0;
};

/// The edges that a first search adds up on its level: at most 60, the first few already well spread.
struct CoarseEdges {
  int level = 0;
  std::vector<TaughtEdge> edges;
  std::vector<double> directions;  ///< of their normals, in 256ths of a turn
  std::vector<int> ends;  ///< of stretches that may rise or fall, each by itself; empty: all as taught
  EdgeColumns columns;
};

struct GreyModel;
struct Rival;
class EdgeMap;

/// What was taught: the pixels with their mask, the settings, and the edges derived from both.
class PatternTarget {
 public:
  using Settings = PatternSettings;
  static const KindInfo& info();
  static const std::vector<SettingRow<PatternSettings>>& rows();
  /// As the other kinds are taught; docs of `teach_pattern`.
  static PatternTarget taught_from(const TeachingPicture& picture, PatternSettings settings);
  PatternTarget(TaughtPicture taught, PatternSettings settings);

  /// Derives the edges. `mask` is 255 where a pixel counts; what lies under 0 is never looked at. `origin` in
  /// coordinates of `pixels`. Throws Error{invalid_argument} when there are too few edges to hold on to, or
  /// all in one direction.
  PatternTarget(Image<uint8_t> pixels, Image<uint8_t> mask, Point2 origin, PatternSettings settings);

  const std::string& name() const { return settings_.name; }
  const TaughtPicture& taught() const { return taught_; }
  const Image<uint8_t>& pixels() const { return taught_.pixels; }
  const Image<uint8_t>& mask() const { return taught_.mask; }
  Point2 origin() const { return taught_.origin; }
  const PatternSettings& settings() const { return settings_; }
  /// What one grey level of the pixels stands for: 1, or the step of a relief in millimetres.
  double grey_unit() const { return settings_.height_step_mm > 0 ? settings_.height_step_mm : 1; }
  /// The strength limit that was used; the given one or the one chosen.
  double strength() const { return strength_ * grey_unit(); }

  /// Edges per pyramid level, the finest first; `place` is in pixels of level 0 on every level.
  const std::vector<std::vector<TaughtEdge>>& levels() const { return levels_; }
  /// What a fit reads on each level: all edges on level 0, at most 128 well spread ones above.
  const std::vector<EdgeColumns>& columns() const { return columns_; }
  /// At most 128 edges of level 0, for candidates that are not yet worth them all.
  const EdgeColumns& few_columns() const { return few_; }
  /// Those of the first search: of the coarsest level, and of the next finer one where each edge may rise or
  /// fall; neighbours that do not go together blur into something else on the coarsest.
  const CoarseEdges& coarse(bool each_by_itself = false) const {
    return each_by_itself ? coarse_each_ : coarse_alike_;
  }
  /// The taught picture as a surface; nothing where no pixel beside an edge is clear of the mask.
  const GreyModel* greys() const { return greys_.get(); }
  /// Box of all edges about the origin.
  const Box& extent() const { return extent_; }
  /// False for a part that looks the same at every angle; its angle is then reported as 0.
  bool has_angle() const { return has_angle_; }
  /// How often it looks the same in a full turn, 1 for most parts. Angles are reported within that part of a
  /// turn, or within the range asked for.
  int symmetry() const { return turns_; }
  Point2 symmetry_centre() const { return turn_centre_; }
  /// The same in one number: 0 when it has no angle.
  int turns() const { return has_angle_ ? turns_ : 0; }
  /// The same target with its origin in the middle of its edges where its own lies far from that; else
  /// itself. It is what a find looks for: about an origin far away every turn moves the part far, and a part
  /// may be whole in the picture when such an origin is not in it.
  const PatternTarget& centred() const { return centred_ ? *centred_ : *this; }
  /// Where the middle of `centred` lies from the origin; (0, 0) where that is the target itself.
  Point2 to_centred() const { return centred().origin() - origin(); }
  /// Poses in which it looks much like itself, found when first asked for.
  const std::vector<Rival>& rivals() const;
  /// Its edges by place, made when first asked for.
  const EdgeMap& edge_map() const;
  /// What teaching tells, by name.
  std::vector<Figure> facts() const;
  /// Lines to draw over its pixels.
  std::vector<Trace> traces() const { return {}; }

 private:
  /// From its levels, those that a fit and a search read.
  void choose_edges(const Image<uint8_t>& filled);

  TaughtPicture taught_;
  PatternSettings settings_;
  double strength_ = 0;
  std::vector<std::vector<TaughtEdge>> levels_;
  CoarseEdges coarse_alike_, coarse_each_;
  std::vector<EdgeColumns> columns_;
  EdgeColumns few_;
  std::shared_ptr<const GreyModel> greys_;
  Box extent_;
  bool has_angle_ = true;
  int turns_ = 1;
  Point2 turn_centre_;
  std::shared_ptr<const PatternTarget> centred_;
  struct Self;
  std::shared_ptr<Self> self_;
};

/// Teaches the part of `picture` inside `region`. Cost: the region's pixels.
/// Throws Error{invalid_argument} when the region lies (partly) outside the picture or holds nothing to hold
/// on to.
/// `valid` (of the picture's size, 255 where a pixel was measured) leaves out the others, as those of a
/// relief.
PatternTarget teach_pattern(const ImageView<const uint8_t>& picture, const Region& region,
                            PatternSettings settings = {}, const ImageView<const uint8_t>& valid = {});

class Survey;
class Work;

/// Finds the pattern in a picture: coarse to fine over quantised gradient directions, then least squares on
/// edges and on grey values; docs/pattern.md. The score is the share of the taught edge length that is seen
/// again, weighed by nearness and direction; brightness has no part in it. Not finding is an answer with its
/// reasons in `misses`. A part is returned only when its own best pose, with three
/// sigmas to spare, lies inside the ranges. Where it looks like itself in another pose and too little is seen
/// to decide, it is marked `ambiguous`. Results do not depend on the thread count. After `work` was stopped,
/// what is sure so far is returned and `complete` is false. Throws Error{invalid_argument} when the limits
/// contradict themselves.
Findings find(const PatternTarget& target, const Survey& survey, const FindLimits& limits,
              Explain explain = Explain::always, Work* work = nullptr);

/// The same with the limits that were kept with the target.
Findings find(const PatternTarget& target, const Survey& survey);

}  // namespace heron
