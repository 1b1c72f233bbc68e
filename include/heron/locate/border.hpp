#pragma once
#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"
#include "heron/locate/setting.hpp"
#include "heron/locate/taught.hpp"

namespace heron {

class PreparedPicture;
class Work;

/// Which brightness counts as damage against the strip around it.
enum class ChipTone { darker, brighter, either };

/// How a border is taught, found and looked along. Coordinates are those of the camera's whole picture.
struct BorderSettings {
  std::string name = "border";
  std::optional<Point2> origin = {};  ///< the middle of the border's box unless given
  std::vector<double> polyline =
      {};  ///< x, y of its corners one after the other, drawn within `snap` of the part's border; the
           ///< region's corners (a rectangle or a polygon) unless given. Afterwards: where the sides were met
  bool open = false;               ///< the last corner is not joined to the first
  double snap = 15;                ///< pixels that a drawn side may lie off the part's, at teaching; 2 to 200
  double position_tolerance = 40;  ///< pixels that the origin may lie off its taught place, either way, while
                                   ///< no search region is given; 0 to 10000
  double side_tolerance = 5;       ///< pixels that a side may lie off where the others put it; 0.5 to 100
  double threshold = 0;            ///< grey levels across a side; 0 follows the noise
  double chip_width = 0;  ///< pixels of the strip along the border that is looked over for chips; 0: none
  double chip_inset = 2;  ///< pixels from the border to the strip, inwards; below 0: outside
  ChipTone chip_tone = ChipTone::either;
  double chip_change = 25;  ///< grey levels off the strip's own brightness that count as damage; 1 to 255
  double min_chip = 6;      ///< smallest chip that is reported, square pixels
  double max_chip = 0;      ///< square pixels; a border with a larger one is a miss; 0: no limit
  std::vector<double> steps = {};   ///< grey levels inside less outside, a value a side, at teaching
  std::vector<double> corner = {};  ///< of this file's pixels in the camera's picture
  FindOptions options = {.angle = {degrees(-8), degrees(8)}, .scale = {0.97, 1.03}};
  PartGeometry geometry = {};
};

/// A border of straight sides, open or closed, each of which may give a little.
class BorderTarget : public TaughtKind<BorderTarget, BorderSettings> {
 public:
  static const KindInfo& info();
  static const std::vector<SettingRow<BorderSettings>>& rows();
  /// Snaps each drawn side to the strongest straight edge near it. Throws Error{invalid_argument} for a
  /// polyline that crosses itself, has a side shorter than 12 pixels or leaves the picture; when a side meets
  /// no edge (it is named); and when all sides run one way, so that the part would slide along them.
  static BorderTarget taught_from(const TeachingPicture& picture, BorderSettings settings);
  BorderTarget(TaughtPicture taught, BorderSettings settings);

  std::vector<Measurement> facts() const;
  std::vector<Contour> contours() const;
  Box extent() const;
  int symmetry_order() const { return 1; }
  /// What looks like chips on the taught part itself, printed lines that end at its border for example; in
  /// the camera's picture. The same marks at the same places are not reported as chips.
  const std::vector<Defect>& marks() const { return marks_; }

 private:
  std::vector<Defect> marks_;
};

/// Finds the border again: scans across its sides meet edges; of the poses that a few of those edges give,
/// the one that most scans agree with within `give` is taken (Fischler, Bolles, Random sample consensus,
/// Comm. ACM 24, 1981), a cell of turn and scale at a time; then each side is fitted by itself, as a robust
/// line through strips across it. One border is found, at most.
///
/// The pose is that of the whole; figures tell each side: "side1.seen" (per cent of it), "side1.off" (of its
/// middle, pixels inwards of where the whole puts it), "side1.turned" (degrees), "side1.sigma" (of `off`,
/// pixels). `points` are the corners where two sides that were seen meet, `lengths` the sides between them.
/// The score is the share of the border's length that is seen; a side that is not is dotted. Defects of kind
/// "chip": place, area, length along the border, and depth across it. Cost: the scans' pixels.
FindResult find(const BorderTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);

}  // namespace heron
