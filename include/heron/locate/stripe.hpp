#pragma once
#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"
#include "heron/locate/setting.hpp"
#include "heron/locate/taught.hpp"

namespace heron {

class PreparedPicture;
class Work;

/// How a stripe on the floor is taught.
struct StripeSettings {
  std::string name = "stripe";
  std::optional<Point2> origin = {};  ///< unused
  double width = 0;                   ///< pixels where it was taught; 0: learned
  double width_change = 45;  ///< per cent that it may be narrower or wider elsewhere, as perspective makes it
  double ahead = -1;  ///< the row at which offset and heading are reported; below 0: the middle of the rows
  double top = -1, bottom = -1;  ///< rows that are looked at; below 0: those of the taught region
  int scans = 40;                ///< rows that are scanned, 8 to 200
  /// The stripe's red, green, blue, and the floor's, at teaching; three equal numbers for a grey picture.
  std::vector<double> stripe_color = {}, floor_color = {};
  FindOptions options = {.min_score = 35};
  PartGeometry geometry = {};
};

/// A stripe that runs through the picture from below to above.
class StripeTarget : public TaughtKind<StripeTarget, StripeSettings> {
 public:
  static const KindInfo& info();
  static const std::vector<SettingRow<StripeSettings>>& rows();
  /// The region holds a piece of the stripe in its middle and floor on both sides. Throws
  /// Error{invalid_argument} when nothing in its middle differs from its sides.
  static StripeTarget taught_from(const TeachingPicture& picture, StripeSettings settings);
  StripeTarget(TaughtPicture taught, StripeSettings settings);

  std::vector<Measurement> facts() const;
  std::vector<Contour> contours() const { return {}; }
  Box extent() const {
    return {-settings_.width / 2, -settings_.width / 2, settings_.width, settings_.width};
  }
  int symmetry_order() const { return 1; }
};

/// Scans rows for two edges as far apart as the stripe is wide, and fits a parabola through their middles
/// that most rows agree with: glare, wear, shadows and gaps leave rows out. A stripe whose color differs from
/// the floor's is seen by its share of red, green and blue, which a shadow does not change; else by its
/// brightness.
///
/// At most one detection: its position is the stripe's middle at the row `ahead`, its angle the heading
/// there, from straight up, positive to the right (picture sense). The score is the confidence: the share of
/// the rows that agree, lowered as their scatter grows. Measurements: "offset" (from the picture's middle
/// column, pixels), "width", "curvature" (one over the radius in pixels, positive to the right), "seen" (per
/// cent of the rows), "branches" (further lines that join it). `limits.region` narrows the columns and rows.
/// Cost: the rows scanned.
FindResult find(const StripeTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);

}  // namespace heron
