#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "heron/image/image.hpp"
#include "heron/locate/detection.hpp"

namespace heron {

/// What is said of a reading, a part or a picture.
enum class Verdict {
  good,
  bad,           ///< measured, and beyond its limits
  not_found,     ///< what should be measured is not there, though the anchor is
  not_measured,  ///< it could not be tried: no anchor, a stale gauge, or a shape outside the picture
};
inline constexpr const char* verdict_words[] = {"good", "bad", "not found", "not measured"};
inline const char* word_of(Verdict verdict) { return verdict_words[static_cast<size_t>(verdict)]; }

/// Lower and upper limit of a reading, in its unit; a missing one does not limit.
struct Limits {
  std::optional<double> min = {}, max = {};
  bool any() const { return min || max; }
  bool contain(double value) const { return !(min && value < *min) && !(max && value > *max); }
};

/// A number that a gauge tells beside its value, with its unit: "x", "roundness", "contrast".
struct GaugeValue {
  std::string name;
  double value = 0;
  std::optional<double> sigma = {};
  std::string unit = {};
};

/// A pair, a repeat or a blob that a gauge saw, by number from 1.
struct GaugeItem {
  Point2 at;            ///< picture coordinates
  double value = 0;     ///< width, place along the band, or area
  bool counted = true;  ///< false: too small, or missing
};

/// One gauge's value for one part, or for the picture.
struct Reading {
  std::string gauge;
  std::string kind;                  ///< of the gauge: "distance"
  std::string quantity;              ///< what `value` is: "diameter"
  std::optional<size_t> part = {};   ///< index in the report's parts; nothing for a fixed frame
  bool fixed = false;                ///< measured where the shape was drawn, though the gauge follows a part
  std::optional<double> value = {};  ///< nothing where it is not measured
  std::optional<double> sigma = {};  ///< standard uncertainty; nothing for counts
  std::string unit = {};             ///< "mm", "px", "deg", "%"; empty for counts
  Limits limits = {};
  Verdict state = Verdict::not_measured;
  std::string reason = {};  ///< of every state but good
  bool undecided = false;   ///< the value lies nearer to a limit than the guard band
  std::vector<GaugeValue> values = {};
  std::vector<GaugeItem> items = {};
  std::vector<Contour> contours = {};  ///< its shape (closed, `seen` false) and what was seen in it
  std::vector<ScanProfile> profiles = {};
  std::shared_ptr<const Image<uint8_t>> crop = {};  ///< of a crop gauge
  std::string text = {};                            ///< what an outside reader read in it
  std::optional<double> confidence = {};            ///< of the text, 0 to 1, where the reader tells it
  Point2 at = {};                                   ///< where its value is drawn, picture coordinates
};

}  // namespace heron
