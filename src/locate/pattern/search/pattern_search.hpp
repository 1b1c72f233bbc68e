#pragma once
#include <algorithm>
#include <optional>

#include "heron/base/work.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "locate/common/polarity.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

/// Grey levels; what is weaker is no edge to explain anything by.
inline constexpr double weakest_contrast = 3;

/// Limits to search by, wider than those to judge by when a reason is wanted.
struct PatternReach {
  Range<Angle> angle;
  Range<double> scale;
  double min_contrast;
  double min_score;
  Polarity polarity;
  double effort;
  double max_overlap;
  Box origins;
  bool names_nearest = false;  ///< when all candidates are dropped, the best of them is reported all the same
  Point2 told_origin = {};  ///< from the origin of what is searched for: the target's own, if that is another
  std::optional<Box> told_origins = {};  ///< where that may lie
};

/// Everything that one search reads.
struct PatternSearch {
  const PatternModel& target;
  const PreparedPicture& prepared;
  PatternReach reach;
  Work* work;
  int octave = 0;  ///< the part is about two to this power as large as taught: the picture is halved so much
                   ///< more often before it looks as the taught one does on a level

  bool stopped() const { return work && work->stopped(); }
  const CoarseEdges& coarse() const { return target.coarse(reach.polarity == Polarity::per_edge); }
  /// The level of the picture on which the search begins.
  int coarse_level() const {
    return std::clamp(coarse().level + octave, 0, std::max(coarse().level, prepared.level_count() - 1));
  }
  /// The taught level of which edges are looked for on a level of the picture.
  int taught_level(int level) const {
    return std::clamp(level - octave, 0, static_cast<int>(target.levels().size()) - 1);
  }
  /// Fine edges lose more than half of their contrast on coarse levels; how strict a limit is asked for is
  /// for the full picture to say.
  double coarse_contrast() const { return std::min(reach.min_contrast, 16.0); }
  bool free_angle() const { return target.has_angle() && reach.angle.max > reach.angle.min; }
  bool free_scale() const { return reach.scale.max > reach.scale.min; }
};

}  // namespace heron
