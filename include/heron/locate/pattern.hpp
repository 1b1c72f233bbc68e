#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "heron/base/range.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"
#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"
#include "heron/locate/setting.hpp"
#include "heron/locate/taught.hpp"

namespace heron {

/// How a pattern is taught.
struct PatternSettings {
  std::string name = "pattern";
  std::optional<Point2> origin =
      {};  ///< which point of the picture is the part's position; its region's centre unless given
  double edge_threshold = 0;  ///< grey levels over two pixels from which on an edge is taught; 0 chooses by
                              ///< the region's strongest edges
  int detail = 0;  ///< 0 teaches every edge; 1, 2, 3 only those that the picture halved so often still shows
  double height_step_mm = 0;  ///< above 0: taught from the relief of a height map (image/relief.hpp) with
                              ///< this step; contrasts and the edge threshold are then millimetres everywhere
  FindOptions options = {};   ///< kept with the target, used when a find names none
  PartGeometry geometry = {};  ///< kept with the target
};

/// One edge of the taught part.
struct TaughtEdge {
  Point2 place;   ///< from the origin, pixels of the taught picture
  Point2 normal;  ///< unit, from dark to bright
};

class PatternModel;

/// What was taught: the pixels with their mask, the settings, and the edges derived from both. Copies share
/// what was derived.
class PatternTarget : public TaughtKind<PatternTarget, PatternSettings> {
 public:
  static const KindInfo& info();
  static const std::vector<SettingRow<PatternSettings>>& rows();
  /// As the other kinds are taught; docs of `teach_pattern`.
  static PatternTarget taught_from(const TeachingPicture& picture, PatternSettings settings);
  PatternTarget(TaughtPicture taught, PatternSettings settings);

  /// Derives the edges. `mask` is 255 where a pixel counts; what lies under 0 is never looked at. `origin` in
  /// coordinates of `pixels`. Throws Error{invalid_argument} when there are too few edges to hold on to, or
  /// all in one direction.
  PatternTarget(Image<uint8_t> pixels, Image<uint8_t> mask, Point2 origin, PatternSettings settings);

  const Image<uint8_t>& pixels() const { return taught().pixels; }
  const Image<uint8_t>& mask() const { return taught().mask; }
  Point2 origin() const { return taught().origin; }
  /// What one grey level of the pixels stands for: 1, or the step of a relief in millimetres.
  double grey_unit() const { return settings_.height_step_mm > 0 ? settings_.height_step_mm : 1; }
  /// The edge threshold that was used: the given one, or the one chosen.
  double edge_threshold() const;
  /// Edges of the finest level.
  const std::vector<TaughtEdge>& edges() const;
  /// Box of all edges about the origin.
  const Box& extent() const;
  /// How often it looks the same in a full turn, 1 for most parts; 0 when it looks the same at every angle
  /// and its angle is reported as 0. Angles are reported within that part of a turn, or within the range
  /// asked for.
  int symmetry_order() const;
  std::vector<Measurement> facts() const;  ///< results of teaching, by name
  std::vector<Contour> contours() const { return {}; }

  /// What a search reads; for the library alone.
  const PatternModel& model() const { return *model_; }

 private:
  std::shared_ptr<const PatternModel> model_;
};

/// Teaches the part of `picture` inside `region`. Cost: the region's pixels.
/// Throws Error{invalid_argument} when the region lies (partly) outside the picture or holds nothing to hold
/// on to.
/// `valid` (of the picture's size, 255 where a pixel was measured) leaves out the others, as those of a
/// relief.
PatternTarget teach_pattern(const ImageView<const uint8_t>& picture, const Region& region,
                            PatternSettings settings = {}, const ImageView<const uint8_t>& valid = {});

class PreparedPicture;
class Work;

/// Finds the pattern in a picture: coarse to fine over quantised gradient directions, then least squares on
/// edges and on grey values; docs/internals/pattern.md. The score is the share of the taught edge length that
/// is seen again, weighed by nearness and direction; brightness has no part in it. Not finding is an answer
/// with its reasons in `misses`. A part is returned only when its own best pose, with three sigmas to spare,
/// lies inside the ranges. Where it looks like itself in another pose and too little is seen to decide, it is
/// marked `ambiguous`. Results do not depend on the thread count. After `work` was stopped, what is sure so
/// far is returned and `complete` is false. Throws Error{invalid_argument} when the limits contradict
/// themselves.
FindResult find(const PatternTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);

/// The same with the limits that were kept with the target.
FindResult find(const PatternTarget& target, const PreparedPicture& prepared);

}  // namespace heron
