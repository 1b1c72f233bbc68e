#include "heron/camera/exposure.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "heron/base/error.hpp"

namespace heron {
namespace {

double bright_level(const Image<uint8_t>& picture, const Region& region) {
  std::array<int, 256> histogram{};
  int count = 0;
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x)
      if (region.empty() || region.contains({static_cast<double>(x), static_cast<double>(y)}))
        ++histogram[picture(x, y)], ++count;
  if (count == 0) fail_argument("exposure: the region holds no pixel of the picture");
  int below = 0;
  for (int level = 0; level < 256; ++level)
    if ((below += histogram[static_cast<size_t>(level)]) >= 0.98 * count) return level;
  return 255;
}

}  // namespace

BrightnessReached bring_to_brightness(Camera& camera, const Region& region, const BrightnessWanted& wanted) {
  if (!(wanted.level >= 20 && wanted.level <= 240))
    fail_argument("exposure: the wanted level must be 20 to 240 grey levels");
  const CameraInfo info = camera.info();
  if (!info.exposure_ms) fail_argument(fmt::format("{}: this camera's exposure cannot be set", info.address));
  const double longest =
      wanted.longest_ms > 0 ? std::min(wanted.longest_ms, info.exposure_ms->max) : info.exposure_ms->max;
  BrightnessReached r;
  r.exposure_ms = camera.exposure_ms();
  if (info.gain) r.gain = camera.gain();
  double gain_low = info.gain ? info.gain->min : 0,
         gain_high =
             info.gain ? info.gain->max : 0;  // what is still possible; a gain's unit is the camera's own
  while (r.pictures < wanted.max_pictures) {
    const auto picture = camera.take();
    if (!picture) {
      r.reason = "the camera gives no more pictures";
      return r;
    }
    ++r.pictures;
    r.level = bright_level(grey_levels(*picture), region);
    if (std::abs(r.level - wanted.level) <= wanted.tolerance) {
      r.reached = true;
      return r;
    }
    const double factor = r.level >= 254 ? 0.5 : wanted.level / std::max(2.0, r.level);
    const double next = std::clamp(r.exposure_ms * factor, info.exposure_ms->min, longest);
    const bool too_dark = r.level < wanted.level;
    const bool gain_is_up = info.gain && *r.gain > info.gain->min + 1e-9;
    if (std::abs(next / r.exposure_ms - 1) > 0.01 && (too_dark || !gain_is_up)) {
      r.exposure_ms = next;
      camera.set_exposure_ms(r.exposure_ms);
      continue;
    }
    // The exposure stands at its end: halve what the gain may still be.
    if (info.gain) {
      (too_dark ? gain_low : gain_high) = *r.gain;
      const double middle = 0.5 * (gain_low + gain_high);
      if (gain_high - gain_low > 0.02 * (info.gain->max - info.gain->min)) {
        r.gain = middle;
        camera.set_gain(middle);
        continue;
      }
    }
    r.reason = fmt::format("exposure {} at its {} end and the brightest 2 % at {:.0f}; {} light",
                           info.gain ? "and gain stand" : "stands", too_dark ? "long" : "short", r.level,
                           too_dark ? "give more" : "take away");
    return r;
  }
  r.reason = fmt::format("not settled after {} pictures; does the light change?", r.pictures);
  return r;
}

Image<uint16_t> merge_exposures(const std::vector<Image<uint8_t>>& pictures,
                                const std::vector<double>& exposures) {
  if (pictures.size() < 2 || pictures.size() != exposures.size())
    fail_argument(fmt::format("merge: {} pictures and {} exposures; two or more of each are needed",
                              pictures.size(), exposures.size()));
  for (size_t i = 0; i < pictures.size(); ++i) {
    if (pictures[i].width() != pictures[0].width() || pictures[i].height() != pictures[0].height())
      fail_argument("merge: the pictures have different sizes");
    if (!(exposures[i] > 0) || !std::isfinite(exposures[i]) ||
        std::count(exposures.begin(), exposures.end(), exposures[i]) > 1)
      fail_argument("merge: exposures must be above 0 and different");
  }
  const int w = pictures[0].width(), h = pictures[0].height();
  const auto longest = static_cast<size_t>(std::max_element(exposures.begin(), exposures.end()) -
                                           exposures.begin()),
             shortest = static_cast<size_t>(std::min_element(exposures.begin(), exposures.end()) -
                                            exposures.begin());
  Image<float> light(w, h);
  float most = 1e-9f;
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      double sum = 0, weights = 0;
      for (size_t i = 0; i < pictures.size(); ++i) {
        const double grey = pictures[i](x, y);
        if (grey >= 250 || grey < 2) continue;
        // A longer exposure knows the same light better: read noise is the same, the signal is more.
        const double weight = exposures[i] * exposures[i] * std::min(1.0, (250 - grey) / 20);
        sum += weight * grey / exposures[i], weights += weight;
      }
      const double value = weights > 0                   ? sum / weights
                           : pictures[longest](x, y) < 2 ? pictures[longest](x, y) / exposures[longest]
                                                         : pictures[shortest](x, y) / exposures[shortest];
      light(x, y) = static_cast<float>(value);
      most = std::max(most, light(x, y));
    }
  Image<uint16_t> merged(w, h);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      merged(x, y) = static_cast<uint16_t>(std::lround(65535.0 * light(x, y) / most));
  return merged;
}

}  // namespace heron
