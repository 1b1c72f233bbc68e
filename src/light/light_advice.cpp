#include "light_advice.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

namespace heron {
namespace {

constexpr double wanted_level = 200;

/// Exposure first, as long as motion and cycle time allow; gain for the rest.
void advise_exposure(std::vector<std::string>& advice, double factor, const LightOptions& o) {
  double longest =
      o.longest_exposure_ms > 0 ? o.longest_exposure_ms : std::numeric_limits<double>::infinity();
  const char* why = "the longest allowed";
  if (o.moving_px_per_ms > 0 && 0.5 / o.moving_px_per_ms < longest)
    longest = 0.5 / o.moving_px_per_ms, why = "what smears half a pixel at that speed";
  if (!o.exposure_ms) {
    advice.push_back(fmt::format(
        "{} the exposure {:.2g} times{}", factor > 1 ? "lengthen" : "shorten", factor,
        factor > 1 && std::isfinite(longest)
            ? fmt::format(", but not beyond {:.3g} ms ({}); give --exposure to have it worked out", longest,
                          why)
            : ""));
    return;
  }
  const double exposure = std::min(*o.exposure_ms * factor, longest),
               rest = *o.exposure_ms * factor / exposure;
  if (std::abs(exposure / *o.exposure_ms - 1) > 0.02)
    advice.push_back(fmt::format("set the exposure from {:.3g} to {:.3g} ms{}", *o.exposure_ms, exposure,
                                 rest > 1.02 ? fmt::format(" ({})", why) : ""));
  if (rest > 1.02)
    advice.push_back(
        fmt::format("raise the gain {:.2g} times ({:.1f} dB) for the rest; noise grows with it, so more "
                    "light or a wider aperture is better",
                    rest, 20 * std::log10(rest)));
}

}  // namespace

std::vector<std::string> light_advice(const LightReport& r, const LightOptions& o, int bright,
                                      const std::string& dark_side) {
  std::vector<std::string> advice;
  const auto bad = [&](const char* name) { return r.measure(name).fitness > Fitness::good; };
  const double clipped = r.measure("saturation").value;
  const bool glare_alone =
      !r.glares.empty() && bright < max_bright;  // shortening the exposure does not cure a reflection
  if (bad("saturation") && !glare_alone) {
    // How far beyond white it is cannot be seen; the clipped share sets the size of the step.
    advise_exposure(advice, clipped > 20 ? 0.35 : clipped > 5 ? 0.5 : 0.7, o);
  } else if (bad("brightness") && bright < min_bright) {
    advise_exposure(advice, wanted_level / std::max(4, bright), o);
  } else if (o.exposure_ms && o.moving_px_per_ms > 0 && *o.exposure_ms * o.moving_px_per_ms > 0.5) {
    advise_exposure(advice, 1, o);
  }
  if (bad("noise"))
    advice.push_back(
        "lower the gain and give more light instead (longer exposure, brighter lamp, wider aperture); the "
        "mean of several pictures helps a part that lies still");
  if (bad("uniformity"))
    advice.push_back(
        fmt::format("light the {} more: move the lamp, widen it, or put a diffuser before it", dark_side));
  if (bad("contrast"))
    advice.push_back(
        "the edges are weak: light from low at the side shows relief, light from behind shows the outline; a "
        "lamp or background of another color separates glazes");
  if (bad("sharpness") && !std::isnan(r.measure("sharpness").value)) {
    advice.push_back(
        "focus the lens on the parts' face, and close the aperture by a stop for more depth; when things "
        "move, shorten the exposure");
  }
  if (bad("glare")) {
    const GlareSpot& g =
        *std::max_element(r.glares.begin(), r.glares.end(),
                          [](const GlareSpot& a, const GlareSpot& b) { return a.radius_px < b.radius_px; });
    advice.push_back(fmt::format(
        "the lamp is reflected at ({:.0f}, {:.0f}): change its angle, diffuse it, or cross two polarisers",
        g.centre.x, g.centre.y));
  }
  if (bad("perpendicularity") && !std::isnan(r.measure("perpendicularity").value))
    advice.push_back(fmt::format("set the camera square to its target: it is tilted by about {:.0f} degrees",
                                 r.measure("perpendicularity").value));
  return advice;
}

}  // namespace heron
