#pragma once
#include <map>

#include "heron/locate/follow.hpp"
#include "heron/report/report.hpp"
#include "heron/station/station_file.hpp"

namespace heron {

/// Tells which parts of a picture were not there before; docs/arrivals.md.
class Arrivals {
 public:
  explicit Arrivals(const ArrivalSettings& settings) : settings_(settings), follower_(settings.follow) {}

  /// Withholds what was sent before and what is not to be sent yet. True when a part has arrived: the report
  /// is a result then, and its parts count as sent. Pictures without a time are taken as ten a second, and
  /// velocities are then not known.
  bool mark(Report& report, std::optional<double> at_s);

 private:
  void follow(Report& report, double at_s, bool timed);
  std::string not_yet(const ReportedPart& part, const Report& report) const;

  ArrivalSettings settings_;
  Follower follower_;
  std::map<int, uint64_t> told_;  ///< by identity: in which result
  std::map<int, int> pictures_;   ///< by identity: that it was seen in
  std::optional<double> last_s_, result_s_;
  int setup_ = 0;
};

}  // namespace heron
