#pragma once
#include <array>
#include <optional>
#include <string>
#include <vector>

#include "heron/base/range.hpp"
#include "heron/geometry/board_shape.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"

namespace heron {

enum class Fitness { unknown, good, fair, poor };  ///< unknown: the picture does not show it

/// One property of a picture, with its verdict.
struct LightMeasure {
  std::string name;  ///< brightness, clipped, dark, contrast, evenness, sharpness, noise, glare, square;
                     ///< holes of a height map
  double value = 0;  ///< NaN when the picture does not show it
  std::string unit;
  Fitness fitness = Fitness::good;
  std::string words;  ///< what the value means here
};

/// A clipped spot with a soft rim: a reflection of the lamp.
struct GlareSpot {
  Point2 centre;
  double radius_px = 0;
};

struct LightOptions {
  Region region = {};                      ///< where it matters; an empty one means the whole picture
  std::optional<double> exposure_ms = {};  ///< the present one: advice then speaks in milliseconds
  double longest_exposure_ms = 0;          ///< that cycle time allows; 0: no limit known
  double moving_px_per_ms = 0;             ///< how fast the parts pass: the exposure may smear half a pixel
  std::optional<BoardShape> board = {};    ///< seen in the picture: shows whether the camera is square to it
};

/// Is a picture fit for the work, and which knob is to be turned?
struct LightReport {
  std::vector<LightMeasure> measures;
  std::vector<std::string> advice;  ///< in the order in which to follow it; empty for a good picture
  std::vector<GlareSpot> glares;
  std::array<int, 256> histogram{};
  Fitness overall = Fitness::good;  ///< the poorest of the measures

  const LightMeasure& measure(
      const std::string& name) const;  ///< throws Error{invalid_argument} for another name
};

/// The verdict on a value of saturation, underexposure, uniformity, sharpness, noise, contrast or glare;
/// unknown for another measure.
Fitness light_fitness(const std::string& measure, double value);

/// Measures brightness (98th percentile), clipped and black shares, contrast and 10-90% width of the
/// strongest isolated edges, evenness (a robust quadratic surface through the logarithms of tile medians),
/// noise, glare, and the tilt that a board or round shapes show. Cost: some passes over the region. Throws
/// Error{invalid_argument} when the region holds fewer than 32 x 32 pixels of the picture or an option is out
/// of range.
LightReport judge_light(const ImageView<const uint8_t>& picture, const LightOptions& options = {});

/// The same for a height map, whose light is its holes: NaN where nothing was measured.
LightReport judge_heights(const ImageView<const float>& map, const Region& region = {});

}  // namespace heron
