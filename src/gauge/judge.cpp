#include "judge.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/gauge/rule.hpp"

namespace heron {
namespace {

std::string with_unit(double value, const std::string& unit) {
  return unit.empty() ? fmt::format("{:.6g}", value) : fmt::format("{:.6g} {}", value, unit);
}

/// The reading is beyond its limits, or too near to them to be sure.
void apply_limits(Reading& r, const GaugeSet& set) {
  const double value = *r.value, sigma = r.sigma.value_or(0);
  r.state = Verdict::good;
  if (r.limits.min && value < *r.limits.min)
    r.state = Verdict::bad,
    r.reason = fmt::format("{} is below {}", with_unit(value, r.unit), with_unit(*r.limits.min, r.unit));
  if (r.limits.max && value > *r.limits.max)
    r.state = Verdict::bad,
    r.reason = fmt::format("{} is above {}", with_unit(value, r.unit), with_unit(*r.limits.max, r.unit));
  const double band = set.guard * sigma;
  for (const auto& limit : {r.limits.min, r.limits.max})
    r.undecided = r.undecided || (limit && std::abs(value - *limit) < band);
  if (!r.undecided) return;
  const bool too_wide = r.limits.min && r.limits.max && *r.limits.max - *r.limits.min < 2 * band;
  const std::string why =
      too_wide ? fmt::format("its sigma of {} is too large for its tolerance", with_unit(sigma, r.unit))
               : fmt::format("within {:g} sigma of its limit", set.guard);
  r.reason += (r.reason.empty() ? "undecided: " : "; undecided: ") + why;
  if (set.undecided == UndecidedAs::bad) r.state = Verdict::bad;
}

Truth truth_of(Verdict verdict) {
  return verdict == Verdict::good ? Truth(true) : verdict == Verdict::bad ? Truth(false) : Truth{};
}

/// True when all are, false when one is not; not known else.
Truth all_of(const std::vector<Verdict>& verdicts) {
  Truth all = true;
  if (verdicts.empty()) return std::nullopt;
  for (const Verdict v : verdicts) {
    if (v == Verdict::bad) return false;
    if (v != Verdict::good) all = std::nullopt;
  }
  return all;
}

Verdict verdict_of(Truth truth, const std::vector<Verdict>& of) {
  if (truth) return *truth ? Verdict::good : Verdict::bad;
  const bool absent = std::find(of.begin(), of.end(), Verdict::not_found) != of.end();
  return absent ? Verdict::not_found : Verdict::not_measured;
}

/// The readings that a rule looks at, by name.
class Readings {
 public:
  Readings(const Report& report, std::optional<size_t> part, bool of_picture) : report_(report) {
    for (const Reading& r : report.readings)
      if (!r.fixed && (of_picture || !r.part || r.part == part)) readings_.push_back(&r);
  }
  std::vector<Verdict> states(const std::string& name) const {
    std::vector<Verdict> states;
    for (const Reading* r : readings_)
      if (r->gauge == name) states.push_back(r->state);
    return states;
  }
  std::optional<double> value(const std::string& name) const {
    const double n = static_cast<double>(report_.parts.size());
    const auto with = [&](auto is) {
      return static_cast<double>(
          std::count_if(report_.parts.begin(), report_.parts.end(),
                        [&](const ReportedPart& p) { return p.verdict && is(*p.verdict); }));
    };
    if (name == "parts") return n;
    if (name == "good_parts") return with([](Verdict v) { return v == Verdict::good; });
    if (name == "bad_parts") return with([](Verdict v) { return v == Verdict::bad; });
    if (name == "unmeasured_parts")
      return with([](Verdict v) { return v != Verdict::good && v != Verdict::bad; });
    std::optional<double> value;
    for (const Reading* r : readings_) {
      if (r->gauge != name || !r->value) continue;
      if (value) return std::nullopt;  // of several parts there is no one value
      value = r->value;
    }
    return value;
  }

 private:
  const Report& report_;
  std::vector<const Reading*> readings_;
};

/// Names of what `all` ranges over that no gauge can have.
std::string part_name(size_t index) { return fmt::format("\n{}", index); }

Verdict part_verdict(const Report& report, const Rule& rule, size_t part) {
  const Readings readings(report, part, false);
  std::vector<std::string> own;
  std::vector<Verdict> states;
  for (const Reading& r : report.readings)
    if (r.part == part && !r.fixed) own.push_back(r.gauge), states.push_back(r.state);
  return verdict_of(
      rule.evaluate({[&] { return own; }, [&](const std::string& n) { return all_of(readings.states(n)); },
                     [&](const std::string& n) { return readings.value(n); }}),
      states);
}

}  // namespace

Reading judged(const Gauge& gauge, const GaugeSet& set, Measured m) {
  Reading r;
  r.gauge = gauge.name, r.kind = kind_of(gauge), r.quantity = std::move(m.quantity);
  r.unit = std::move(m.unit), r.limits = gauge.limits;
  r.state = m.state, r.reason = std::move(m.reason), r.values = std::move(m.values),
  r.items = std::move(m.items);
  r.contours = std::move(m.contours), r.profiles = std::move(m.profiles), r.at = m.at;
  if (r.state != Verdict::good) return r;
  if (m.crop) {  // a picture alone is good; one that shall be read is not until it was
    r.crop = m.crop;
    const bool reads = !std::get<CropGauge>(gauge.kind).program.empty();
    if (reads) r.state = Verdict::not_measured, r.reason = "no reader was asked";
    return r;
  }
  r.value = m.value, r.sigma = m.sigma;
  if (r.limits.any() && !gauge.unit.empty() && gauge.unit != r.unit) {
    r.state = Verdict::not_measured;
    r.reason = fmt::format("its limits are in {} and it was measured in {}", gauge.unit,
                           r.unit.empty() ? "numbers" : r.unit);
    return r;
  }
  apply_limits(r, set);
  return r;
}

void judge(Report& report, const GaugeSet& set) {
  const Rule of_part = Rule::parse(set.part_rule), of_picture = Rule::parse(set.picture_rule);
  std::vector<std::string> names;
  std::vector<Verdict> states;
  for (size_t i = 0; i < report.parts.size(); ++i) {
    const bool judged = std::any_of(report.readings.begin(), report.readings.end(),
                                    [&](const Reading& r) { return r.part == i && !r.fixed; });
    if (!judged) continue;
    report.parts[i].verdict = part_verdict(report, of_part, i);
    names.push_back(part_name(i)), states.push_back(*report.parts[i].verdict);
  }
  for (const Reading& r : report.readings)
    if (!r.part && !r.fixed) names.push_back(r.gauge), states.push_back(r.state);
  for (const GaugeTarget& t : set.targets) {
    const bool followed =
        std::any_of(set.gauges.begin(), set.gauges.end(), [&](const Gauge& g) { return g.anchor == t.name; });
    const bool found = std::any_of(report.parts.begin(), report.parts.end(),
                                   [&](const ReportedPart& p) { return p.detection.target == t.name; });
    if (followed && !found) states.push_back(Verdict::not_found);
  }
  const Readings readings(report, {}, true);
  const auto is_good = [&](const std::string& name) {
    if (name[0] == '\n') return truth_of(*report.parts[std::stoul(name.substr(1))].verdict);
    return all_of(readings.states(name));
  };
  report.verdict = verdict_of(of_picture.evaluate({[&] { return names; }, is_good,
                                                   [&](const std::string& n) { return readings.value(n); }}),
                              states);
}

}  // namespace heron
