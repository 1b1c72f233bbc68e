#pragma once
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "heron/gauge/gauge.hpp"
#include "heron/report/report.hpp"

namespace heron {

/// One reading of a part that was measured several times.
struct RepeatedReading {
  std::string part;  ///< which part it is of
  std::string picture;
  double value = 0;
  std::optional<double> sigma = {};
};

/// Repeatability of one gauge over parts that were measured several times.
struct Repeatability {
  std::string gauge, unit;
  std::vector<RepeatedReading> readings = {};  ///< in the order of the pictures
  int parts = 0, unmeasured = 0;
  double mean = 0;
  double within = 0;                    ///< standard deviation of repeated readings of a part, pooled
  std::optional<double> between = {};   ///< of the parts' true sizes; nothing of one part
  std::optional<double> reported = {};  ///< root mean square of the reported sigmas
  Limits limits = {};
  /// Six within over the tolerance, as a share: P/T (AIAG, Measurement Systems Analysis, 4th edition, 2010).
  std::optional<double> share_of_tolerance = {};
  /// A fifth of the tolerance over six within, and with the bias against a known size: Cg and Cgk of a type 1
  /// study (ISO 22514-7, 1.33 is asked for).
  std::optional<double> cg = {}, cgk = {};
  std::optional<RepeatedReading> worst = {};  ///< farthest from the mean of its part
};

/// Takes the readings of pictures in which the same parts were measured again and again. Pictures of one
/// `group` (a folder) show the same parts: with one part in each picture it is the same one, else parts are
/// told apart by where they lie in the first picture.
class RepeatabilityStudy {
 public:
  void add(const Report& report, const std::string& group);
  /// `known` sizes of gauges, by name, give Cgk. Throws Error{invalid_argument} for a name that was never
  /// read.
  std::vector<Repeatability> results(const std::map<std::string, double>& known = {}) const;

 private:
  struct Place {
    std::string name;
    Point2 at;
  };
  std::map<std::string, std::vector<Place>> places_;  ///< of each group's parts
  std::vector<Repeatability> gauges_;
};

}  // namespace heron
