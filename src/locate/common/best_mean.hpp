#pragma once
#include <algorithm>

namespace heron {

/// The best mean of two estimates of one number, of which the variance of each is known and how much of it
/// both have in common (Bates, Granger, The combination of forecasts, Operational Research Quarterly 20,
/// 1969). No more than the smaller variance is taken for common.
struct BestMean {
  double share = 0, variance;  ///< of the other one, 0 to 1; of the mean

  BestMean(double one, double other, double common) : variance(one) {
    common = std::min({common, one, other});
    const double apart = one + other - 2 * common;
    if (!(apart > 0)) return;
    share = (one - common) / apart, variance = (one * other - common * common) / apart;
  }
};

}  // namespace heron
