#include "time_shares.hpp"

#include <algorithm>
#include <cmath>

namespace heron::tool {
namespace {

constexpr double least_ms = 0.001, step = 1.05;

}  // namespace

void TimeShares::add(double ms) {
  const double bin = std::floor(std::log(std::max(ms, least_ms) / least_ms) / std::log(step));
  ++bins_[static_cast<size_t>(std::min(bin, static_cast<double>(bins_.size() - 1)))];
  ++count_;
}

double TimeShares::below(double share) const {
  int64_t left = static_cast<int64_t>(std::ceil(share * static_cast<double>(count_)));
  if (count_ == 0) return 0;
  size_t bin = 0;
  while (bin + 1 < bins_.size() && (left -= bins_[bin]) > 0) ++bin;
  return least_ms * std::pow(step, static_cast<double>(bin) + 0.5);
}

}  // namespace heron::tool
