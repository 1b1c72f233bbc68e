#pragma once
#include <array>
#include <cstdint>

namespace heron::tool {

/// How long something took, over any number of times, in memory that does not grow: counts in bins that are
/// 5 % wide, from a microsecond to some hours.
class TimeShares {
 public:
  void add(double ms);
  int64_t count() const { return count_; }
  /// The time that this share of all lies below, right to 2.5 %; 0 without any.
  double below(double share) const;

 private:
  std::array<int64_t, 480> bins_{};
  int64_t count_ = 0;
};

}  // namespace heron::tool
