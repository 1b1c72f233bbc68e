#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/gauge/gauge.hpp"
#include "heron/report/report.hpp"

namespace heron {

/// One part of the examples that limits are learned from.
struct ExamplePart {
  std::string picture;
  size_t part = 0;  ///< index in the picture's report
  bool good = true;
  std::vector<Reading> readings = {};
};

/// The parts of a picture whose gauges were measured; all of them are good, or all bad.
std::vector<ExamplePart> example_parts(const Report& report, bool good);

/// A good part whose reading lies among the bad ones, or far off all good ones.
struct Contradiction {
  std::string picture;
  size_t part = 0;
  double value = 0;
  std::string why;
};

/// What examples say of one gauge.
struct LearnedGauge {
  std::string gauge, unit;
  int good = 0, bad = 0, unmeasured = 0;  ///< readings of good and bad parts; parts without one
  double nominal = 0, spread = 0;         ///< mean and standard deviation of the good ones that count
  Range<double> good_range = {};
  /// Bad readings that the good ones do not explain: the nearest below and above.
  std::optional<double> bad_below = {}, bad_above = {};
  int told = 0;          ///< bad parts that this gauge tells from good ones
  Limits proposed = {};  ///< none: `why` says why not
  std::string why = {};
  double gap = 0;  ///< from the outermost good reading to the nearest bad one; 0 without bad ones
  /// Share of further good parts beyond the proposed limits, if good readings are distributed normally.
  std::optional<double> false_rejects = {};
  /// Expected share of bad parts within the limits; nothing when fewer than three lie on a side.
  std::optional<double> false_accepts = {};
  std::vector<Contradiction> contradictions = {};
};

/// Which part of which picture.
struct ExampleName {
  std::string picture;
  size_t part = 0;
};

/// What examples say of all gauges.
struct LearnedLimits {
  std::vector<LearnedGauge> gauges;
  int good_parts = 0, bad_parts = 0;
  std::vector<ExampleName> untold = {};     ///< bad parts that no proposed limit rejects
  int good_rejected = 0, bad_accepted = 0;  ///< leave one out: each part judged by what the others teach
};

/// Learns limits from examples. A gauge is proposed when it tells at least one bad part from all good ones,
/// or when there are no bad ones. Each limit lies in the middle of the gap between good and bad, but no
/// further out than where 99.9 % of good parts lie with 95 % confidence (Howe, Two-sided tolerance limits for
/// normal populations, JASA 64, 1969); a side on which no bad part lies has none while the other has. Needs
/// three good readings; a good one more than six robust standard deviations off, or among the bad ones, is
/// named and left out.
///
/// The share of further good parts beyond the limits is that of Student's t for a further value of a normal
/// distribution; without that assumption, 2 / (n + 1) of further parts lie outside the range of n good ones.
/// Cost: parts squared times gauges.
LearnedLimits learn_limits(const GaugeSet& gauges, const std::vector<ExamplePart>& parts);

/// The set with the proposed limits in place of its own.
GaugeSet with_limits(const GaugeSet& gauges, const LearnedLimits& learned);

}  // namespace heron
