#pragma once
#include "coarse_hits.hpp"
#include "heron/base/work.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "locate/common/polarity.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

/// Where the coarse search looks.
struct CoarseSearch {
  Range<Angle> angle;
  Range<double> scale;
  Box origins;  ///< where origins may lie, picture coordinates
  double min_likeness = 0.5;
  double min_contrast = 8;
  Polarity polarity = Polarity::as_taught;
  double effort = 0.5;  ///< how surely a place that is given up half way is none
  int level = 0;        ///< of the picture
  int octave = 0;       ///< scales are about two to this power
};

/// The widest step between the angles that are tried for a part of the taught size.
Angle coarse_angle_step(const PatternModel& target);

/// Tries every pose of a grid on the level of the target's coarse edges and lists what resembles it. Gradient
/// directions are quantised to 16, spread by one pixel, and turned into one response map for each direction,
/// so a pose costs one byte added for each edge, until what is summed falls too far behind (after
/// Hinterstoisser et al., Gradient response maps for real-time detection of texture-less objects, PAMI 34,
/// 2012). Where each edge may rise or fall, each stretch of them counts with what answers more, the one or
/// the other.
CoarseHits coarse_search(const PatternModel& target, const PreparedPicture& prepared,
                         const CoarseSearch& search, Work* work);

}  // namespace heron
