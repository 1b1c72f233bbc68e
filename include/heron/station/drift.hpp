#pragma once
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "heron/image/region.hpp"
#include "heron/report/report.hpp"

namespace heron {

/// How slow changes of a station are watched; docs/drift.md.
struct DriftSettings {
  int learn = 500;                ///< pictures from which what is usual is learned; at least 20
  int memory = 50;                ///< pictures over which is averaged; at least 5
  std::optional<Box> light = {};  ///< of the picture: its brightness should stay
  bool quality = false;           ///< `light` is judged as well, by judge_light: sharpness, noise and others
  std::string reference = {};     ///< target file of something that should stay where it is; empty: none
};

/// What a quantity is like as a rule.
struct UsualValue {
  int64_t count = 0;
  double mean = 0, squares = 0;   ///< squares: sum of the squared deviations from the mean
  double last = 0, products = 0;  ///< the newest value; sum of the products of neighbouring deviations
  double average = 0;             ///< with the weights of `DriftSettings::memory`
  double largest = 0;             ///< deviation of the average from the mean while it was learned

  double sigma() const;
  double correlation() const;  ///< of neighbouring values, 0 to 0.98
};

/// The quantities of `light` that judge_light calls poor, as words; empty when none is.
std::string poor_light(const std::map<std::string, double>& watched);

/// The quantities of a picture that are watched: score and contrast (medians of its parts), elapsed_ms, and
/// those of `Report::watched`.
std::map<std::string, double> watched_quantities(const Report& report);

/// Learns what is usual, and then says what has moved away from it: an exponentially weighted moving average
/// (Roberts, Control chart tests based on geometric moving averages, Technometrics 1, 1959) against six of
/// its sigmas, twice its largest excursion while it was learned, and what matters at all for the quantity.
/// Its sigma holds for values that follow each other (Lu, Reynolds, EWMA control charts for monitoring the
/// mean of autocorrelated processes, Journal of Quality Technology 31, 1999). Quantities that a picture does
/// not have are passed over.
class DriftWatch {
 public:
  /// `learned`: what an earlier watch of the same settings had learned; empty: nothing. Throws
  /// Error{bad_file} when it is broken, with `from` as its file.
  explicit DriftWatch(const DriftSettings& settings, const std::string& learned = {},
                      const std::string& from = {});

  /// One picture. Returns every quantity that is beyond its limit, or that was and has not come back to half
  /// of it: one that hovers there gives one warning.
  std::vector<DriftWarning> take(const std::map<std::string, double>& quantities);
  /// Whether what is usual is not known yet for some quantity.
  bool learning() const;
  /// For a later watch: JSON.
  std::string learned() const;
  const std::map<std::string, UsualValue>& usual() const { return usual_; }
  /// How far a quantity's average may move; nothing while it is learned, and for an unknown one.
  std::optional<double> limit(const std::string& quantity) const;

 private:
  double limit_of(const std::string& name, const UsualValue& usual) const;
  void learn(UsualValue& usual, double value) const;

  DriftSettings settings_;
  double weight_;  ///< of the newest value
  std::map<std::string, UsualValue> usual_;
  std::set<std::string> beyond_;
};

}  // namespace heron
