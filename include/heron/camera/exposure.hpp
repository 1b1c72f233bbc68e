#pragma once
#include "heron/camera/camera.hpp"
#include "heron/image/region.hpp"

namespace heron {

struct BrightnessWanted {
  double level = 200;     ///< grey level that the brightest 2% of the region shall have, 20 to 240
  double longest_ms = 0;  ///< exposure is not lengthened beyond; 0: the camera's own limit
  double tolerance = 8;   ///< grey levels
  int max_pictures = 16;
};

struct BrightnessReached {
  bool reached = false;
  double level = 0;  ///< of the last picture
  double exposure_ms = 0;
  std::optional<double> gain;
  int pictures = 0;
  std::string reason;  ///< when not reached
};

/// Brings a region to the wanted brightness: exposure first, as long as allowed, gain for the rest; clipped
/// pictures are halved until they show how bright they are. An empty region means the whole picture. Throws
/// Error{invalid_argument} when the camera's exposure cannot be set, Error{no_connection} as `take`.
BrightnessReached bring_to_brightness(Camera& camera, const Region& region,
                                      const BrightnessWanted& wanted = {});

/// One picture of several exposures of a still scene, where one cannot hold bright and dark: each place is
/// the mean of what the exposures say of its light, those that are neither clipped nor black counting by
/// their signal (after Debevec, Malik, Recovering high dynamic range radiance maps from photographs, 1997,
/// for a sensor that is linear). 16 bit: 65535 is the brightest light met. `exposures_ms` belong to
/// `pictures` in order. Throws Error{invalid_argument} for fewer than two pictures, different sizes, or
/// exposures that are not above 0 and different.
Image<uint16_t> merge_exposures(const std::vector<Image<uint8_t>>& pictures,
                                const std::vector<double>& exposures_ms);

}  // namespace heron
