#pragma once
#include <memory>

#include "heron/locate/pattern.hpp"

namespace heron {

/// What lies behind the parts.
enum class Backdrop {
  even,     ///< one brightness, changing slowly across the picture as light does; parts cover less than half
  picture,  ///< as an empty picture shows it
  color,    ///< one color, however bright; parts cover less than half
  unknown   ///< nothing is known: the contour of a detail is found by its edges alone
};

/// How a part stands out from what is behind it.
enum class PartTone {
  learn,   ///< as the region shows it
  either,  ///< brighter or darker, or both
  bright,
  dark
};

/// How an outline is taught.
struct OutlineSettings {
  std::string name = "outline";
  std::optional<Point2> origin = {};  ///< the region's centre unless given
  Backdrop backdrop = Backdrop::even;
  std::vector<double> backdrop_color =
      {};  ///< red, green, blue; learned along the region's border unless given
  std::vector<double> towards =
      {};  ///< from that color to the parts', learned; empty where they have several
  PartTone tone = PartTone::learn;
  double threshold = 0;   ///< grey levels from the background from which on a pixel is the part's; 0 chooses
  double level = 0;       ///< of the background at teaching; the threshold follows the light by it
  bool mirrored = false;  ///< finds the mirrored shape too, with figure "mirrored" 1; else it is a miss
  double min_area = 0;    ///< per cent of the taught area; 0: any
  double max_area = 0;    ///< 0: any
  double max_deviation = 0;  ///< pixels that the outline may lie off anywhere; 0: any
  double min_defect = 12;    ///< smallest missing or extra piece that is reported, square pixels
  double max_defect = 0;     ///< square pixels that all of them may sum up to; 0: any
  FindOptions options = {.min_score = 60};
  PartGeometry geometry = {};
};

/// A silhouette: its pixels are the share by which each is the part's (128: on the outline), so it can be
/// erased or added to in any paint program.
class OutlineTarget : public TaughtKind<OutlineTarget, OutlineSettings> {
 public:
  static const KindInfo& info();
  static const std::vector<SettingRow<OutlineSettings>>& rows();
  /// Teaches the largest silhouette inside the region, holes included. With backgrounds, their mean is what
  /// lies behind, and where they differ the threshold is raised. Throws Error{invalid_argument} when nothing
  /// stands out, or it runs into the region's border.
  static OutlineTarget taught_from(const TeachingPicture& picture, OutlineSettings settings);
  OutlineTarget(TaughtPicture taught, OutlineSettings settings);

  const PatternTarget& shape() const { return *shape_; }
  /// Nothing when the mirrored shape is the same.
  const PatternTarget* mirrored() const { return mirrored_.get(); }
  /// How much of its mirrored shape the part matches, per cent: how far the two can be distinguished.
  double likeness_of_mirrored() const { return likeness_of_mirrored_; }
  double area() const { return area_; }  ///< square pixels, without holes
  std::vector<Measurement> facts() const;
  std::vector<Contour> contours() const;
  Box extent() const { return shape_->extent(); }
  int symmetry_order() const { return shape_->symmetry_order(); }

 private:
  static OutlineTarget taught_on(const TeachingPicture& picture, OutlineSettings settings);

  std::shared_ptr<const PatternTarget> shape_, mirrored_;
  double likeness_of_mirrored_ = 0;
  double area_ = 0;
};

/// Finds silhouettes of that shape. The picture is turned into how much of each pixel is a part's, and the
/// taught outline is registered to the outlines there (docs/internals/kinds.md). The score is the share of
/// the taught outline that is met by one in the picture, an outline in place counting in full and one three
/// pixels off not at all; it falls with what is covered, cut off or differently shaped, not with brightness.
///
/// Measurements: "area" (square pixels), "deviation" (the farthest that its outline lies off, pixels),
/// "mirrored". `defects`: pieces that are missing or too much. Two parts that touch are found when enough of
/// each outline is free; otherwise a miss says that the area is too large for one. Throws
/// Error{invalid_argument} when the background has another size than the picture, or the picture is grey
/// where the backdrop is a color.
FindResult find(const OutlineTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);

}  // namespace heron
