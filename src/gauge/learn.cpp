#include "heron/gauge/learn.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <unsupported/Eigen/SpecialFunctions>

#include "heron/base/median.hpp"

namespace heron {
namespace {

constexpr int fewest_good = 3, fewest_bad = 3;
constexpr double far_off = 6;      // robust standard deviations
constexpr double told_from = 3.5;  // standard deviations of a further good reading

/// Share of Student's t with `freedom` degrees beyond `t` on one side.
double beyond(double t, double freedom) {
  const double x = freedom / (freedom + t * t), tail = 0.5 * Eigen::numext::betainc(0.5 * freedom, 0.5, x);
  return t > 0 ? tail : 1 - tail;
}

/// Howe's factor for 99.9 % of a normal distribution with 95 % confidence; the chi-square quantile by Wilson
/// and Hilferty (PNAS 17, 1931).
double tolerance_factor(int n) {
  constexpr double z_content = 3.2905, z_confidence = -1.6449;
  const double freedom = n - 1, third = 2 / (9 * freedom),
               root = std::max(0.05, 1 - third + z_confidence * std::sqrt(third));
  return z_content * std::sqrt(freedom * (1 + 1.0 / n) / (freedom * root * root * root));
}

/// A reading of an example.
struct Example {
  const ExamplePart* part;
  double value;
};

struct Normal {
  double mean = 0, spread = 0;
  int count = 0;
  /// Standard deviations of a further value of the same kind.
  double off(double value) const {
    return spread > 0      ? (value - mean) / (spread * std::sqrt(1 + 1.0 / count))
           : value == mean ? 0
                           : std::copysign(1e9, value - mean);
  }
};

Normal normal_of(const std::vector<Example>& examples) {
  Normal n{.count = static_cast<int>(examples.size())};
  for (const Example& e : examples) n.mean += e.value / n.count;
  for (const Example& e : examples) n.spread += (e.value - n.mean) * (e.value - n.mean);
  n.spread = n.count > 1 ? std::sqrt(n.spread / (n.count - 1)) : 0;
  return n;
}

/// Takes out good readings that are far off all others, and names them.
void leave_out_strays(std::vector<Example>& good, LearnedGauge& gauge) {
  std::vector<double> values;
  for (const Example& e : good) values.push_back(e.value);
  const double middle = median(values);
  for (double& v : values) v -= middle;
  const double spread = 1.4826 * median_size(values);
  if (!(spread > 0) || good.size() < 5) return;
  std::erase_if(good, [&](const Example& e) {
    const double off = std::abs(e.value - middle) / spread;
    if (off <= far_off) return false;
    gauge.contradictions.push_back(
        {e.part->picture, e.part->part, e.value,
         fmt::format("good, and {:.0f} standard deviations off the other good ones", off)});
    return true;
  });
}

/// The limit of one side: `sign` is +1 for the upper one.
std::optional<double> limit_of(const Normal& good, Range<double> range, std::optional<double> bad,
                               double sign) {
  const double outermost = sign > 0 ? range.max : range.min,
               widest = good.mean + sign * tolerance_factor(good.count) * good.spread;
  if (!bad) return widest;
  const double middle = 0.5 * (outermost + *bad);
  const bool tighter = sign * widest < sign * middle && sign * widest > sign * outermost;
  return tighter ? widest : middle;
}

/// Expected share within the limits of bad parts like those that the gauge rejects.
std::optional<double> accepted_share(const std::vector<Example>& bad, const Normal& good,
                                     const Limits& limits) {
  double share = 0;
  int sides = 0;
  for (const double sign : {-1.0, 1.0}) {
    const auto& limit = sign > 0 ? limits.max : limits.min;
    if (!limit) continue;
    std::vector<Example> side;
    for (const Example& e : bad)
      if (sign * good.off(e.value) > told_from) side.push_back(e);
    if (static_cast<int>(side.size()) < fewest_bad) continue;
    const Normal n = normal_of(side);
    share = std::max(share, 1 - beyond(sign * n.off(*limit), n.count - 1));
    ++sides;
  }
  return sides > 0 ? std::optional(share) : std::nullopt;
}

LearnedGauge learned(const Gauge& gauge, const std::vector<const ExamplePart*>& parts) {
  LearnedGauge result;
  result.gauge = gauge.name;
  std::vector<Example> good, bad;
  for (const ExamplePart* part : parts)
    for (const Reading& r : part->readings) {
      if (r.gauge != gauge.name || r.fixed) continue;
      if (!r.value) {
        ++result.unmeasured;
        continue;
      }
      result.unit = r.unit;
      (part->good ? good : bad).push_back({part, *r.value});
    }
  result.good = static_cast<int>(good.size()), result.bad = static_cast<int>(bad.size());
  leave_out_strays(good, result);
  if (static_cast<int>(good.size()) < fewest_good) {
    result.why = fmt::format("{} good readings; it needs {}", good.size(), fewest_good);
    return result;
  }
  const Normal n = normal_of(good);
  result.nominal = n.mean, result.spread = n.spread;
  result.good_range = {good[0].value, good[0].value};
  for (const Example& e : good)
    result.good_range = {std::min(result.good_range.min, e.value), std::max(result.good_range.max, e.value)};
  for (const Example& e : bad) {
    if (std::abs(n.off(e.value)) <= told_from || result.good_range.contains(e.value)) continue;
    ++result.told;
    if (e.value > n.mean)
      result.bad_above = std::min(e.value, result.bad_above.value_or(e.value));
    else
      result.bad_below = std::max(e.value, result.bad_below.value_or(e.value));
  }
  const bool any_bad = std::any_of(parts.begin(), parts.end(), [](const ExamplePart* p) { return !p->good; });
  if (any_bad && result.told == 0) {
    result.why = "it tells no bad part from the good ones";
    return result;
  }
  if (result.bad_below || !any_bad)
    result.proposed.min = limit_of(n, result.good_range, result.bad_below, -1);
  if (result.bad_above || !any_bad) result.proposed.max = limit_of(n, result.good_range, result.bad_above, 1);
  result.gap = std::min(result.bad_above ? *result.bad_above - result.good_range.max : 1e300,
                        result.bad_below ? result.good_range.min - *result.bad_below : 1e300);
  if (result.gap > 1e299) result.gap = 0;
  if (n.spread > 0) result.false_rejects = 0;
  for (const double sign : {-1.0, 1.0})
    if (const auto& limit = sign > 0 ? result.proposed.max : result.proposed.min;
        limit && result.false_rejects)
      *result.false_rejects += beyond(sign * n.off(*limit), n.count - 1);
  result.false_accepts = accepted_share(bad, n, result.proposed);
  return result;
}

/// Whether the part is rejected: by a proposed limit, or because something was not found or not measured.
bool rejects(const std::vector<LearnedGauge>& gauges, const ExamplePart& part) {
  for (const Reading& r : part.readings)
    if (!r.fixed && (r.state == Verdict::not_found || r.state == Verdict::not_measured)) return true;
  for (const LearnedGauge& g : gauges) {
    if (!g.proposed.any()) continue;
    for (const Reading& r : part.readings)
      if (r.gauge == g.gauge && !r.fixed && r.value && !g.proposed.contain(*r.value)) return true;
  }
  return false;
}

std::vector<LearnedGauge> learned_all(const GaugeSet& set, const std::vector<const ExamplePart*>& parts) {
  std::vector<LearnedGauge> all;
  for (const Gauge& g : set.gauges) all.push_back(learned(g, parts));
  return all;
}

}  // namespace

std::vector<ExamplePart> example_parts(const Report& report, bool good) {
  std::vector<ExamplePart> parts;
  for (size_t i = 0; i < report.parts.size(); ++i) {
    ExamplePart part{.picture = report.picture, .part = i, .good = good};
    for (const Reading& r : report.readings)
      if (r.part == i && !r.fixed) part.readings.push_back(r);
    if (!part.readings.empty()) parts.push_back(std::move(part));
  }
  return parts;
}

LearnedLimits learn_limits(const GaugeSet& gauges, const std::vector<ExamplePart>& parts) {
  LearnedLimits result;
  std::vector<const ExamplePart*> all;
  for (const ExamplePart& p : parts) all.push_back(&p), ++(p.good ? result.good_parts : result.bad_parts);
  result.gauges = learned_all(gauges, all);
  for (const ExamplePart* p : all)
    if (!p->good && !rejects(result.gauges, *p)) result.untold.push_back({p->picture, p->part});
  for (const ExamplePart* p : all) {
    std::vector<const ExamplePart*> others;
    std::copy_if(all.begin(), all.end(), std::back_inserter(others),
                 [&](const ExamplePart* o) { return o != p; });
    const bool rejected = rejects(learned_all(gauges, others), *p);
    result.good_rejected += p->good && rejected, result.bad_accepted += !p->good && !rejected;
  }
  return result;
}

GaugeSet with_limits(const GaugeSet& gauges, const LearnedLimits& learned) {
  GaugeSet set = gauges;
  for (const LearnedGauge& l : learned.gauges) {
    if (!l.proposed.any()) continue;
    for (Gauge& g : set.gauges)
      if (g.name == l.gauge) g.limits = l.proposed, g.unit = l.unit;
  }
  return set;
}

}  // namespace heron
