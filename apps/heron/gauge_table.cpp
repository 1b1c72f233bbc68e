#include "gauge_table.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace heron::tool {
namespace {

/// As many decimals as the sigma makes sense of: two digits of it.
int decimals_for(const std::optional<double>& sigma) {
  if (!sigma || !(*sigma > 0)) return 3;
  return std::clamp(1 - static_cast<int>(std::floor(std::log10(*sigma))), 0, 6);
}

std::string number_words(double value, const std::optional<double>& sigma, const std::string& unit) {
  if (!sigma && value == std::floor(value))
    return fmt::format("{:.0f}{}{}", value, unit.empty() ? "" : " ", unit);
  return fmt::format("{:.{}f}{}{}", value, decimals_for(sigma), unit.empty() ? "" : " ", unit);
}

std::string sigma_words(const Reading& r) {
  return r.value && r.sigma ? fmt::format("{:.{}f}", *r.sigma, decimals_for(r.sigma)) : "-";
}

/// A picture's parts are counted from 1 for people.
std::string part_words(const Reading& r) {
  return (r.part ? fmt::format("{}", *r.part + 1) : std::string("-")) + (r.fixed ? " fixed" : "");
}

}  // namespace

std::string reading_words(const Reading& r) {
  if (r.kind == "crop" && !r.text.empty()) return r.text;
  return r.value ? number_words(*r.value, r.sigma, r.unit) : "-";
}

std::string limits_words(const Limits& limits) {
  if (limits.min && limits.max)
    return *limits.min == *limits.max ? fmt::format("{:g}", *limits.min)
                                      : fmt::format("{:g}..{:g}", *limits.min, *limits.max);
  if (limits.min) return fmt::format("at least {:g}", *limits.min);
  if (limits.max) return fmt::format("at most {:g}", *limits.max);
  return "-";
}

void print_reading(const Reading& r) {
  fmt::print("  {:<8} {:<20} {:<9} {:<12} {:>14} {:>9}  {:<16} {}{}\n", part_words(r), r.gauge, r.kind,
             r.quantity, reading_words(r), sigma_words(r), limits_words(r.limits), word_of(r.state),
             r.reason.empty() ? "" : ": " + r.reason);
}

void print_readings(const Report& report) {
  fmt::print("{}: {}; {} parts, {} readings\n", report.picture,
             report.verdict ? word_of(*report.verdict) : "no gauges", report.parts.size(),
             report.readings.size());
  if (!report.readings.empty())
    fmt::print("  {:<8} {:<20} {:<9} {:<12} {:>14} {:>9}  {:<16} {}\n", "part", "gauge", "kind", "quantity",
               "reading", "sigma", "limits", "state");
  for (const Reading& r : report.readings) print_reading(r);
  for (size_t i = 0; i < report.parts.size(); ++i)
    if (const auto& verdict = report.parts[i].verdict)
      fmt::print("  part {}: {} at ({:.2f}, {:.2f}) px, score {:.1f}: {}\n", i + 1,
                 report.parts[i].detection.target, report.parts[i].detection.x, report.parts[i].detection.y,
                 report.parts[i].detection.score, word_of(*verdict));
}

}  // namespace heron::tool
