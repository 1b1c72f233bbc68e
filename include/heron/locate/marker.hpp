#pragma once
#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"
#include "heron/locate/setting.hpp"
#include "heron/locate/taught.hpp"

namespace heron {

class PreparedPicture;
class Work;

/// What a marker is seen as.
enum class MarkerTone {
  learn,   ///< dark or bright, as the region shows it
  dark,    ///< a hole
  bright,  ///< a reflector, a polished stud
  ring     ///< a ring mark of ours (feature/ring_mark.hpp), by its identity
};

/// How a round marker is taught.
struct MarkerSettings {
  std::string name = "marker";
  std::optional<Point2> origin = {};  ///< unused: a marker's position is its centre
  MarkerTone tone = MarkerTone::learn;
  double diameter = 0;   ///< pixels, 8 to 2000; 0: learned from the region
  double tolerance = 8;  ///< per cent that a marker's diameter may differ, 0.5 to 40
  double min_rim = 40;   ///< per cent of the rim that must be seen, 20 to 100
  int identity = -1;     ///< of a ring mark; below 0: any, or learned at teaching
  FindOptions options = {};
  PartGeometry geometry = {};
};

/// A round hole or reflector of known diameter.
class MarkerTarget : public TaughtKind<MarkerTarget, MarkerSettings> {
 public:
  static const KindInfo& info();
  static const std::vector<SettingRow<MarkerSettings>>& rows();
  /// Learns tone and diameter from the most distinct round thing inside the region, unless they are given.
  /// Throws Error{invalid_argument} when there is none.
  static MarkerTarget taught_from(const TeachingPicture& picture, MarkerSettings settings);
  MarkerTarget(TaughtPicture taught, MarkerSettings settings);

  std::vector<Measurement> facts() const;
  std::vector<Contour> contours() const;
  Box extent() const;
  int symmetry_order() const { return settings_.tone == MarkerTone::ring ? 1 : 0; }

 private:
  std::vector<Measurement> learned_;
};

/// Finds markers: edges vote for the centres that they may lie around (Ballard, Generalizing the Hough
/// transform, Pattern Recognition 13, 1981, for one radius), rays from each centre meet the rim, and a
/// blurred ellipse whose light inside and outside differs from sector to sector is fitted to the grey values
/// along it; docs/internals/kinds.md. Whatever is seen through a hole, and whatever hides up to half of the
/// rim, leaves sectors out.
///
/// Measurements: "diameter" (of the circle of the same area), "quality.total" (also the score), and what it
/// is made of: "quality.rim" (per cent of the rim that is seen), "quality.scatter" (of the rim around the
/// ellipse, pixels), "quality.misfit" (per cent of the contrast that the rim's pixels differ by from a
/// blurred ellipse, beyond noise: what is not round shows there), "quality.contrast" (of the edge, over the
/// noise), "quality.diameter" (per cent of the taught one), "quality.sigma" (of the centre, pixels);
/// "axis_ratio", short over long. A ring mark has an angle, and "identity" in place of rim and scatter.
/// `limits.region` is where the centre may lie. Cost: the gradients of a level that shows the marker some 20
/// pixels wide, and some thousand pixels a marker.
FindResult find(const MarkerTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);

}  // namespace heron
