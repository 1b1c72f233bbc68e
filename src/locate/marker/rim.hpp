#pragma once
#include <cmath>
#include <optional>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"
#include "heron/locate/detection.hpp"
#include "heron/locate/prepared_picture.hpp"

namespace heron {

/// A circle that is thought to be somewhere.
struct RimGuess {
  Point2 centre;
  double radius = 0;
  double votes = 0;  ///< share of the rim that voted for it
};

/// Which radii are looked for, and how.
struct RimSearch {
  double min_radius = 0, max_radius = 0;  ///< pixels of level 0
  bool dark = true;
  double min_contrast = 8;
  double min_votes = 0.25;  ///< share of the rim
  double min_rim = 0.4;     ///< share of the rim that must be seen in the end
  int most = 64;
  Box centres;  ///< where centres may lie, level 0
};

/// Centres that edges vote for, most votes first.
std::vector<RimGuess> vote_for_rims(const PreparedPicture& prepared, const RimSearch& search);

/// A rim met by rays: radius + even.x cos 2 turn + even.y sin 2 turn from the centre, where a ray's unit
/// direction is (cos turn, sin turn).
struct FourierRim {
  Point2 centre;
  double radius = 0;
  Point2 even = {};
  double met = 0;  ///< share of the rays that meet it
  double along(Point2 ray) const {
    return radius + even.x * (ray.x * ray.x - ray.y * ray.y) + even.y * 2 * ray.x * ray.y;
  }
};

/// An ellipse fitted to the grey values along its rim.
struct RimFit : Ellipse {
  double blur = 1;      ///< sigma of the edge, pixels
  double rim = 0;       ///< share of the rim that is seen
  double scatter = 0;   ///< rms distance of its sectors from the ellipse, pixels
  double contrast = 0;  ///< grey levels, inside to outside, median over the sectors seen
  double misfit = 0;    ///< share of the contrast that picture and fit differ by beyond what noise explains
  double noise = 0;     ///< grey levels that picture and fit differ by, along what is seen
  double sigma_x = 0, sigma_y = 0, sigma_radius = 0;
  std::vector<bool> seen;  ///< of each sector, from +x towards +y

  double long_axis() const { return radius + std::hypot(a, b); }
  double short_axis() const { return radius - std::hypot(a, b); }
};

/// Meets the rim of a guess by rays, level by level down to the picture itself; nothing where none is met.
std::optional<FourierRim> settle_rim(const PreparedPicture& prepared, const RimGuess& guess,
                                     const RimSearch& search);

/// Fits the grey values along a rim that rays have met; nothing where they do not hold an ellipse.
std::optional<RimFit> fit_rim(const PreparedPicture& prepared, const FourierRim& wave,
                              const RimSearch& search);

}  // namespace heron
