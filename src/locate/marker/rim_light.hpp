#pragma once
#include "rim_sector.hpp"

namespace heron {

/// The light that a rim's sectors share: on either side a level and its growth along x and y.
struct SharedLight {
  /// Inside, then outside.
  RimVector planes = RimVector::Zero();
  /// How strongly the sectors keep to it, inside and outside; its own uncertainty is part of the ellipse's.
  Eigen::Vector2d keep = Eigen::Vector2d::Zero();
  /// How strongly its slope is held at none; a level is not.
  RimVector hold = (RimVector() << 0, firmly, firmly, 0, firmly, firmly).finished();
  /// Squared ramp of the brightness beside the rim, in grey levels a pixel, beyond this light and noise.
  double uneven = 0;
  static constexpr double firmly = 1e9;
};

/// Sectors are lit alike, or as a lamp that stands aside lights them, as far as they show it: each level is
/// drawn towards that of a plane of light through all, as strongly as they keep to it. A sector alone could
/// take a shifted edge for other light, which costs half of what it knows. Sectors that `fit` have a light of
/// their own; it is drawn in their sums. `noise` in grey levels, `arc` pixels from sector to sector.
SharedLight share_light(std::vector<RimSector>& sectors, const std::vector<bool>& fit,
                        const std::vector<Point2>& middles, double noise, double arc);

/// What two further unknowns must come to, their squares over their variances, before they are evident:
/// when they explain so much better what is seen as they cost, if before looking the square of each is
/// about `likely` and `own` the variance that it can be known to (evidence of models: MacKay, Bayesian
/// interpolation, Neural Computation 4, 1992).
double evident_from(double likely, double own);

/// The shared light as further unknowns beside the ellipse's.
class LightUnknowns {
 public:
  explicit LightUnknowns(const SharedLight& light) : light_(light) {}
  void add(const RimSector& sector, Point2 middle, double weight);
  /// Takes from the ellipse's sums, and from each sector's pull, what the light explains as well.
  void settle(RimMatrix& information, RimVector& change, std::vector<RimVector>& contributions);

 private:
  const SharedLight& light_;
  RimMatrix with_ellipse_ = RimMatrix::Zero(), own_ = RimMatrix::Zero();
  std::vector<RimVector> contributions_;
};

}  // namespace heron
