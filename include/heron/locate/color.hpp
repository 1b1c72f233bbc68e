#pragma once
#include "heron/image/color_space.hpp"
#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"
#include "heron/locate/setting.hpp"
#include "heron/locate/taught.hpp"

namespace heron {

class PreparedPicture;
class Work;

/// How a color is taught and what regions of it are found.
struct ColorSettings {
  std::string name = "color";
  std::optional<Point2> origin = {};  ///< of the sample; without meaning for what is found
  /// Where the range lies; chosen where it separates best while `first` to `third` are empty: among spaces of
  /// color, and grey for a grey picture. Grey has `first` alone: 0 and a most for what is dark, a least and
  /// 255 for what is bright.
  std::optional<ColorSpace> space = {};
  std::vector<double> first = {}, second = {}, third = {};  ///< least and most of each channel
  double min_light = 0.6, max_light = 1.1;  ///< the light, against that of the sample, for which it holds
  double min_area = 0;                      ///< square pixels; 0: a quarter of the sample
  double max_area = 0;                      ///< 0: any
  bool whole =
      true;  ///< a region that the picture's edge cuts off is a miss: its centre is not in the picture
  bool fill_holes = true;  ///< what is closed in by a region belongs to it
  int opened = 0;          ///< pixels: takes away specks and bridges narrower than twice that, plus one
  /// x, y, width, height of a white patch in the picture, and its red, green, blue at teaching: the light's
  /// color is taken from it anew in every picture. Empty: the light is taken as it is.
  std::vector<double> white_patch = {};
  FindOptions options = {};
  PartGeometry geometry = {};
};

/// How well a color space separates the sample from the counter-samples.
struct ColorSeparation {
  ColorRange range;
  double apart = 0;   ///< how far the nearest of what is not meant lies outside, in half widths of the range
  double leaks = 0;   ///< share of it that lies inside
  double volume = 0;  ///< share of all colors that lie inside
};

/// A range of color or of brightness, learned from samples and counter-samples.
class ColorTarget : public TaughtKind<ColorTarget, ColorSettings> {
 public:
  static const KindInfo& info();
  static const std::vector<SettingRow<ColorSettings>>& rows();
  /// Learns from the region of a picture, and from counter-samples in it; without any, from the rest of the
  /// picture. When a region holds more than one color, the one that most of it has is learned. Throws
  /// Error{invalid_argument} for a sample without color, or one that its counter-samples contradict.
  static ColorTarget taught_from(const TeachingPicture& picture, ColorSettings settings);
  ColorTarget(TaughtPicture taught, ColorSettings settings);

  ColorRange range() const;
  /// False for a range of brightness, which grey pictures have as well.
  bool needs_color() const { return settings_.space != ColorSpace::grey; }
  /// Every space's separation, as it was measured at teaching; empty for a target from a file.
  const std::vector<ColorSeparation>& separations() const { return separations_; }
  std::vector<Measurement> facts() const;
  std::vector<Contour> contours() const;
  Box extent() const;
  int symmetry_order() const { return 2; }  ///< a principal axis has no head

 private:
  std::vector<ColorSeparation> separations_;
  std::vector<Measurement> learned_;
};

/// Finds regions of a color, largest first. Position: the centroid, holes filled. Angle: the long axis,
/// within -90..90 degrees; none for a region that is nearly round. The score is the share of the region's
/// area that has the color. Measurements: "area", "color_area" (without what was filled), "length" and
/// "width" along its axes, "box.x", "box.y", "box.width", "box.height". Sigma: of pixels of the border that
/// fall to either side. Throws Error{invalid_argument} when the prepared picture has no color and the target
/// needs it. Cost: one pass over the picture, and one over each region.
FindResult find(const ColorTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);

}  // namespace heron
