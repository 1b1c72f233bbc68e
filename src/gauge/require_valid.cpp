#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <regex>
#include <set>

#include "heron/base/nearest_name.hpp"
#include "heron/gauge/gauge.hpp"
#include "heron/gauge/rule.hpp"
#include "locate/scan/scan.hpp"

namespace heron {
namespace {

constexpr double largest = 1e6;  // of a coordinate or a size, pixels or millimetres
constexpr size_t most_gauges = 1000, most_corners = 1000;

[[noreturn]] void refuse(const Gauge& gauge, const std::string& why) {
  fail_argument(fmt::format("gauge '{}': {}", gauge.name, why));
}

/// A shape of `count` numbers; `sizes` are the indices of those that must be above 0.
void require_shape(const Gauge& gauge, const char* name, const std::vector<double>& numbers, size_t count,
                   std::initializer_list<size_t> sizes) {
  if (numbers.empty()) return;
  if (count > 0 && numbers.size() != count)
    refuse(gauge, fmt::format("{} has {} numbers; it needs {}", name, numbers.size(), count));
  for (const double v : numbers)
    if (!(std::abs(v) <= largest))
      refuse(gauge, fmt::format("{} has {:g}; its numbers lie within {:g}", name, v, largest));
  for (const size_t i : sizes)
    if (!(numbers[i] > 0))
      refuse(gauge, fmt::format("{} has a size of {:g}; sizes must be above 0", name, numbers[i]));
}

double area_of(const std::vector<double>& polygon) {
  double twice = 0;
  for (size_t i = 0; i < polygon.size(); i += 2) {
    const size_t j = (i + 2) % polygon.size();
    twice += polygon[i] * polygon[j + 1] - polygon[j] * polygon[i + 1];
  }
  return 0.5 * std::abs(twice);
}

/// Every shape that the kind has; returns how many are given.
template <class Kind>
int require_shapes(const Gauge& gauge, const Kind& kind) {
  int given = 0;
  if constexpr (requires { kind.band; }) {
    require_shape(gauge, "band", kind.band, 5, {2, 3}), given += !kind.band.empty();
    if (!kind.band.empty() && gauge.anchor != "world") Scan::band(kind.band, "band");
  }
  if constexpr (requires { kind.ring; }) {
    constexpr bool area = requires { kind.disc; };
    require_shape(gauge, "ring", kind.ring, area ? 4 : 6, {2, 3}), given += !kind.ring.empty();
    if (!kind.ring.empty() && !(kind.ring[3] > kind.ring[2]))
      refuse(gauge, fmt::format("ring has radii {:g} and {:g}; the inner one comes first", kind.ring[2],
                                kind.ring[3]));
    if constexpr (!area)
      if (!kind.ring.empty() && !(std::abs(kind.ring[5]) > 0 && std::abs(kind.ring[5]) <= 360))
        refuse(gauge, fmt::format("ring sweeps {:g} degrees; it must sweep up to 360 either way, and not 0",
                                  kind.ring[5]));
  }
  if constexpr (requires { kind.box; })
    require_shape(gauge, "box", kind.box, 5, {2, 3}), given += !kind.box.empty();
  if constexpr (requires { kind.disc; })
    require_shape(gauge, "disc", kind.disc, 3, {2}), given += !kind.disc.empty();
  if constexpr (requires { kind.polygon; }) {
    require_shape(gauge, "polygon", kind.polygon, 0, {}), given += !kind.polygon.empty();
    if (!kind.polygon.empty() && (kind.polygon.size() < 6 || kind.polygon.size() % 2 != 0))
      refuse(gauge, fmt::format("polygon has {} numbers; it needs x and y of three corners or more",
                                kind.polygon.size()));
    if (kind.polygon.size() > 2 * most_corners)
      refuse(gauge,
             fmt::format("polygon has {} corners; it may have {}", kind.polygon.size() / 2, most_corners));
    if (!kind.polygon.empty() && !(area_of(kind.polygon) > 0)) refuse(gauge, "polygon has no area");
  }
  return given;
}

void require_pattern(const Gauge& gauge, const std::string& pattern) {
  if (pattern.size() > 500) refuse(gauge, "pattern has more than 500 characters");
  try {
    const std::regex read(pattern);
  } catch (const std::regex_error& error) {
    refuse(gauge, fmt::format("pattern \"{}\" is no regular expression: {}", pattern, error.what()));
  }
}

void require_target(const Gauge& gauge, const GaugeSet& set, const std::string& name, const char* kind) {
  const GaugeTarget* target = set.target(name);
  if (!target) {
    std::vector<std::string> there;
    for (const GaugeTarget& t : set.targets) there.push_back(t.name);
    refuse(gauge, fmt::format("there is no target '{}'; there are: {}", name,
                              there.empty() ? "none" : fmt::format("{}", fmt::join(there, ", "))));
  }
  if (kind && target->target && std::string(target->target->info().id) != kind)
    refuse(gauge, fmt::format("'{}' is a {} target; this gauge needs a {} target", name,
                              target->target->info().id, kind));
}

void require_kind(const Gauge& gauge, const GaugeSet& set) {
  std::visit(
      [&]<class Kind>(const Kind& kind) {
        const int shapes = require_shapes(gauge, kind);
        constexpr bool has_shape = requires { kind.band; }
        || requires { kind.ring; }
        || requires { kind.box; };
        bool combines = false;
        if constexpr (requires { kind.through; }) {
          combines = !kind.through.empty();
          if (combines && shapes > 0) refuse(gauge, "has a band and 'through'; give one of them");
          if (combines && kind.through.size() != 2)
            refuse(gauge, fmt::format("'through' names {} gauges; it needs 2", kind.through.size()));
          if (combines != (kind.reads == LineReading::length))
            refuse(gauge, combines ? "a line through two points reads its length"
                                   : "a line in a band reads straightness or rms");
        }
        if constexpr (requires { kind.between; }) {
          combines = true;
          if (kind.between.size() != 2)
            refuse(gauge, fmt::format("'between' names {} gauges; it needs 2", kind.between.size()));
        }
        if constexpr (requires { kind.of; }) combines = true;
        if (has_shape && !combines && shapes != 1)
          refuse(gauge, shapes == 0 ? "has no shape" : "has several shapes; give one of them");
        if (combines && !gauge.anchor.empty())
          refuse(gauge, "combines other gauges, so it has no anchor of its own");
        if (!combines && gauge.anchor.empty())
          refuse(gauge, "has no anchor; give the name of a target, \"picture\" or \"world\"");
        if constexpr (requires { kind.target; })
          require_target(gauge, set, kind.target, std::is_same_v<Kind, BorderGauge> ? "border" : nullptr);
        if constexpr (requires { kind.position_tolerance; }) {
          if (!(kind.position_tolerance > 0 && kind.position_tolerance <= largest))
            refuse(gauge, "position_tolerance must be above 0");
          if (!(kind.angle_tolerance > 0 && kind.angle_tolerance <= 180))
            refuse(gauge, "angle_tolerance must be above 0 and at most 180");
        }
        if constexpr (std::is_same_v<Kind, FillGauge>) {
          if (kind.color.empty() == kind.levels.empty())
            refuse(gauge, "needs levels or a color, one of them");
          if (!kind.color.empty()) require_target(gauge, set, kind.color, "color");
          if (!kind.levels.empty() && (kind.levels.size() != 2 || !(kind.levels[0] <= kind.levels[1])))
            refuse(gauge, "levels are two grey levels, the least first");
          require_shape(gauge, "light_box", kind.light_box, 5, {2, 3});
          if (!kind.light_box.empty() && !(kind.light_level >= 1))
            refuse(gauge, "light_level must be at least 1: the box is lit on the reference picture");
        }
        if constexpr (std::is_same_v<Kind, CropGauge>) {
          if (kind.height < 8 || kind.height > 1024)
            refuse(gauge, fmt::format("height is {} pixels; it must be 8 to 1024", kind.height));
          if (!(kind.min_confidence >= 0 && kind.min_confidence <= 1))
            refuse(gauge, "min_confidence must be 0 to 1");
          if (!(kind.timeout_s > 0 && kind.timeout_s <= 600))
            refuse(gauge, "timeout_s must be above 0 and at most 600 seconds");
          if (gauge.limits.any())
            refuse(gauge, "has limits; a text is judged by its pattern, or the texts that are allowed");
          require_pattern(gauge, kind.pattern);
        }
        if constexpr (std::is_same_v<Kind, BlobsGauge>) {
          if (!(kind.min_area >= 1) || kind.max_area < 0 ||
              (kind.max_area > 0 && kind.max_area < kind.min_area))
            refuse(gauge, "min_area must be at least 1, and max_area 0 or not below it");
          if (kind.threshold != BlobThreshold::valley && !(kind.level > 0 && kind.level <= 255))
            refuse(gauge, "level must be above 0 and at most 255 for this threshold");
        }
        if constexpr (std::is_same_v<Kind, DistanceGauge>)
          if (!(kind.max_angle > 0 && kind.max_angle <= 90))
            refuse(gauge, "max_angle must be above 0 and at most 90 degrees");
        if constexpr (requires { kind.change; })
          if (kind.change == EdgeChange::learn) refuse(gauge, "change must be rising, falling or either");
      },
      gauge.kind);
}

void require_limits(const Gauge& gauge) {
  const auto& [min, max] = gauge.limits;
  for (const auto& limit : {min, max})
    if (limit && !std::isfinite(*limit)) refuse(gauge, "limits must be finite");
  if (min && max && *min > *max)
    refuse(gauge, fmt::format("its limits {:g} and {:g} are swapped", *min, *max));
}

std::string nearest_words(const std::string& name, const std::vector<std::string>& there) {
  const auto near = nearest_name(name, there);
  return near ? fmt::format("; did you mean '{}'?", *near) : std::string();
}

const std::set<std::string> fixed_frames{"picture", "world"};
const std::vector<std::string> counts{"parts", "good_parts", "bad_parts", "unmeasured_parts"};

void require_rule(const std::string& text, const char* which, const GaugeSet& set, bool of_picture) {
  std::vector<std::string> there;
  for (const Gauge& g : set.gauges) there.push_back(g.name);
  if (of_picture) there.insert(there.end(), counts.begin(), counts.end());
  try {
    const Rule rule = Rule::parse(text);
    for (const std::string& name : rule.names())
      if (std::find(there.begin(), there.end(), name) == there.end())
        fail_argument(fmt::format("rule: there is no gauge '{}'{}", name, nearest_words(name, there)));
  } catch (const Error& error) {
    throw Error(error.code(), fmt::format("{}: {}", which, error.message()));
  }
}

}  // namespace

void GaugeSet::require_valid() const {
  if (gauges.size() > most_gauges || targets.size() > most_gauges)
    fail_argument(fmt::format("{} gauges and {} targets; a set holds at most {} of each", gauges.size(),
                              targets.size(), most_gauges));
  std::set<std::string> names = fixed_frames;
  names.insert(counts.begin(), counts.end());
  for (const GaugeTarget& t : targets) {
    if (t.name.empty()) fail_argument("a target of the gauges has no name");
    if (!names.insert(t.name).second)
      fail_argument(fmt::format("the name '{}' is used twice, or for a frame or a count", t.name));
  }
  for (const Gauge& g : gauges) {
    if (g.name.empty()) fail_argument("a gauge has no name");
    if (g.name.size() > 100)
      fail_argument(fmt::format("gauge '{}...': its name has more than 100 bytes", g.name.substr(0, 40)));
    if (!names.insert(g.name).second)
      fail_argument(fmt::format("the name '{}' is used twice, or for a target, a frame or a count", g.name));
  }
  std::vector<std::string> gauge_names;
  for (const Gauge& g : gauges) gauge_names.push_back(g.name);
  for (const Gauge& g : gauges) {
    require_kind(g, *this);
    require_limits(g);
    if (!g.anchor.empty() && !fixed_frames.count(g.anchor) && !target(g.anchor) && !gauge(g.anchor))
      refuse(g, fmt::format("there is no target or gauge '{}' to follow{}", g.anchor,
                            nearest_words(g.anchor, gauge_names)));
    for (const std::string& name : needed_by(g, *this))
      if (!gauge(name))
        refuse(g, fmt::format("there is no gauge '{}'{}", name, nearest_words(name, gauge_names)));
  }
  if (!(guard >= 0 && guard <= 10))
    fail_argument(fmt::format("guard is {:g}; it must be 0 to 10 standard uncertainties", guard));
  order_of(*this);
  require_rule(part_rule, "part_rule", *this, false);
  require_rule(picture_rule, "picture_rule", *this, true);
}

}  // namespace heron
