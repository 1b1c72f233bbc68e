#include "heron/gauge/measure.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "heron/base/work.hpp"
#include "judge.hpp"
#include "measured.hpp"

namespace heron {
namespace {

/// Nothing: a fixed frame.
using PartIndex = std::optional<size_t>;

struct Result {
  Measured measured;
  Placement placement;
};

/// What is measured, and in what.
struct MeasuringInput {
  const Report& report;
  const GaugeSet& set;
  const PreparedPicture& prepared;
  const Frames& frames;
  const HeightMap* heights;
  Work* work;
};

/// One round over all gauges of a report.
class Measuring {
 public:
  Measuring(const MeasuringInput& input, bool fixed)
      : report_(input.report),
        set_(input.set),
        prepared_(input.prepared),
        frames_(input.frames),
        heights_(input.heights),
        fixed_(fixed),
        work_(input.work),
        results_(input.set.gauges.size()),
        follows_(input.set.gauges.size()) {
    for (const size_t i : order_of(set_)) {
      find_followed(i);
      for (const PartIndex part : instances_of(i)) results_[i][part] = measure_one(i, part);
    }
  }

  std::map<PartIndex, Result>& of(size_t gauge) { return results_[gauge]; }
  /// The targets that a gauge follows, over the gauges that it needs.
  const std::vector<std::string>& followed(size_t gauge) const { return follows_[gauge]; }
  std::vector<size_t> parts_of(const std::string& target) const {
    std::vector<size_t> parts;
    for (size_t i = 0; i < report_.parts.size(); ++i)
      if (report_.parts[i].detection.target == target) parts.push_back(i);
    return parts;
  }

 private:
  void find_followed(size_t i) {
    const Gauge& gauge = set_.gauges[i];
    std::set<std::string> all;
    if (set_.target(gauge.anchor)) all.insert(gauge.anchor);
    for (const std::string& name : needed_by(gauge, set_))
      for (const std::string& target : follows_[index_of(name)]) all.insert(target);
    follows_[i].assign(all.begin(), all.end());
  }
  size_t index_of(const std::string& name) const {
    return static_cast<size_t>(set_.gauge(name) - set_.gauges.data());
  }

  /// Each part that the gauge is measured on.
  std::vector<PartIndex> instances_of(size_t i) const {
    if (fixed_ || follows_[i].size() != 1) return {std::nullopt};
    std::vector<PartIndex> parts;
    for (const size_t part : parts_of(follows_[i][0])) parts.emplace_back(part);
    if (parts.empty()) parts.emplace_back();
    return parts;
  }

  /// Why a gauge cannot be measured, before any picture is looked at; empty: it can.
  std::string obstacle(size_t i) const {
    for (const std::string& name : follows_[i]) {
      const GaugeTarget& target = *set_.target(name);
      if (!target.changed.empty())
        return fmt::format(
            "stale: target '{}' was taught again since the gauge was drawn ({} changed); look at it and "
            "confirm with `heron gauge confirm`",
            name, target.changed);
      if (fixed_) continue;
      const size_t count = parts_of(name).size();
      if (count == 0) return fmt::format("'{}' was not found", name);
      if (follows_[i].size() > 1 && count > 1)
        return fmt::format("it follows several targets, and '{}' was found {} times", name, count);
      if (frames_.mapping && target.target && target.target->geometry().size_mm > 0)
        return fmt::format("'{}' is placed in space by its size, not on the work plane", name);
    }
    return {};
  }

  double height_of(size_t i) const {
    if (follows_[i].empty()) return 0;
    const auto& target = set_.target(follows_[i][0])->target;
    return target ? target->geometry().height_mm : 0;
  }

  const Measured& needed(const std::string& name, PartIndex part) const {
    const auto& results = results_[index_of(name)];
    const auto own = results.find(part);
    return own != results.end() ? own->second.measured : results.begin()->second.measured;
  }

  Result measure_one(size_t i, PartIndex part) const {
    Result result;
    const std::string why = obstacle(i);
    if (!why.empty()) {
      result.measured.fails(Verdict::not_measured, why);
      return result;
    }
    if (work_ && work_->stopped()) {
      result.measured.fails(Verdict::not_measured, "the work was stopped");
      return result;
    }
    try {
      GaugeScene scene{prepared_,
                       {},
                       MeasuringPlane(frames_.mapping, frames_.axes, height_of(i)),
                       {},
                       set_.gauges[i].outside,
                       heights_,
                       work_};
      if (!place(i, part, scene, result.measured)) return result;
      result.placement = scene.placement;
      result.measured =
          std::visit([&](const auto& kind) { return of_kind(kind, scene, part); }, set_.gauges[i].kind);
      if (const auto point = point_of(result.measured.feature))
        result.measured.at = scene.plane.pixel(point->at);
    } catch (const Error& error) {  // the set is valid: it depends on where the part lies
      result.measured.fails(Verdict::not_measured, error.message());
    }
    return result;
  }

  /// Sets where the shapes lie; false where that is not known.
  bool place(size_t i, PartIndex part, GaugeScene& scene, Measured& measured) const {
    const Gauge& gauge = set_.gauges[i];
    if (gauge.anchor == "world") {
      if (!frames_.mapping)
        fail_argument(fmt::format("gauge '{}' stays in the world; give a mapping", gauge.name));
      scene.placement = Placement::in_world(*frames_.mapping, frames_.axes);
    } else if (const GaugeTarget* target = set_.target(gauge.anchor); target && !fixed_) {
      follow_part(report_.parts[*part].detection, *target, gauge.follows, scene);
    } else if (set_.gauge(gauge.anchor)) {
      return follow_gauge(gauge, part, scene, measured);
    }
    return true;
  }

  void follow_part(const Detection& seen, const GaugeTarget& target, const Follows& follows,
                   GaugeScene& scene) const {
    const Similarity2 now{seen.x, seen.y, seen.angle, seen.scale};
    const bool rigid = follows.x && follows.y && follows.angle && !follows.scale;
    const double height = target.target ? target.target->geometry().height_mm : 0;
    scene.placement = frames_.mapping && rigid
                          ? Placement::moved_on_plane(target.reference, now, *frames_.mapping, height)
                          : Placement::moved(target.reference, now, follows);
    scene.place_sigma = {{seen.x, seen.y},
                         follows.x ? seen.sigma.x.value_or(0) : 0,
                         follows.y ? seen.sigma.y.value_or(0) : 0,
                         follows.angle ? seen.sigma.angle.value_or(Angle{}).radians() : 0};
  }

  bool follow_gauge(const Gauge& gauge, PartIndex part, GaugeScene& scene, Measured& measured) const {
    const auto& results = results_[index_of(gauge.anchor)];
    const auto own = results.find(part);
    const Result& followed = own != results.end() ? own->second : results.begin()->second;
    const auto point = point_of(followed.measured.feature);
    if (!followed.measured.measured() || !point) {
      measured.fails(Verdict::not_measured, followed.measured.measured()
                                                ? fmt::format("'{}' has no point to follow", gauge.anchor)
                                                : fmt::format("'{}', which it follows, is {}", gauge.anchor,
                                                              word_of(followed.measured.state)));
      return false;
    }
    const Point2 seen = scene.plane.pixel(point->at), expected = followed.placement.at(gauge.anchor_at);
    scene.placement = followed.placement.shifted(
        gauge.anchor_at, {gauge.follows.x ? seen.x : expected.x, gauge.follows.y ? seen.y : expected.y});
    const double scale = scene.plane.scale(seen);
    scene.place_sigma = {seen, std::sqrt(point->covariance(0, 0)) / scale,
                         std::sqrt(point->covariance(1, 1)) / scale, 0};
    return true;
  }

  template <class Kind>
  Measured of_kind(const Kind& kind, const GaugeScene& scene, PartIndex) const {
    return measured(kind, scene);
  }
  Measured of_kind(const LineGauge& kind, const GaugeScene& scene, PartIndex part) const {
    if (kind.through.empty()) return measured(kind, scene);
    return line_through(needed(kind.through[0], part), needed(kind.through[1], part), scene.plane);
  }
  Measured of_kind(const DistanceGauge& kind, const GaugeScene& scene, PartIndex part) const {
    return measured(kind, needed(kind.between[0], part), needed(kind.between[1], part), scene.plane);
  }
  Measured of_kind(const AngleGauge& kind, const GaugeScene&, PartIndex part) const {
    return measured(kind, needed(kind.between[0], part), needed(kind.between[1], part));
  }
  Measured of_kind(const ValueGauge& kind, const GaugeScene&, PartIndex part) const {
    return measured(kind, needed(kind.of, part));
  }
  Measured of_kind(const FillGauge& kind, const GaugeScene& scene, PartIndex) const {
    return measured(kind, scene, kind.color.empty() ? nullptr : &loaded(kind.color));
  }
  Measured of_kind(const DetailGauge& kind, const GaugeScene& scene, PartIndex) const {
    if (const std::string why = stale(kind.target); !why.empty())
      return Measured().fails(Verdict::not_measured, why);
    loaded(kind.target);
    return measured(kind, scene, *set_.target(kind.target));
  }
  Measured of_kind(const BorderGauge& kind, const GaugeScene& scene, PartIndex) const {
    if (const std::string why = stale(kind.target); !why.empty())
      return Measured().fails(Verdict::not_measured, why);
    loaded(kind.target);
    return measured(kind, scene, *set_.target(kind.target));
  }
  Measured of_kind(const CountGauge& kind, const GaugeScene& scene, PartIndex) const {
    return measured(kind, scene, detections_of(kind.target));
  }

  std::string stale(const std::string& name) const {
    const std::string& changed = set_.target(name)->changed;
    return changed.empty()
               ? ""
               : fmt::format(
                     "stale: target '{}' was taught again since the gauge was drawn ({} changed); "
                     "look at it and confirm with `heron gauge confirm`",
                     name, changed);
  }
  const Target& loaded(const std::string& name) const {
    const auto& target = set_.target(name)->target;
    if (!target) fail_argument(fmt::format("target '{}' of the gauges is not loaded", name));
    return *target;
  }
  /// Where a target was found: by the caller when gauges follow it, else it is searched for here, once.
  const std::vector<Point2>& detections_of(const std::string& name) const {
    const auto known = detections_.find(name);
    if (known != detections_.end()) return known->second;
    std::vector<Point2>& places = detections_[name];
    const bool followed =
        std::any_of(set_.gauges.begin(), set_.gauges.end(), [&](const Gauge& g) { return g.anchor == name; });
    if (followed) {
      for (const size_t part : parts_of(name))
        places.push_back({report_.parts[part].detection.x, report_.parts[part].detection.y});
      return places;
    }
    FindOptions options = loaded(name).options();
    options.max_count = FindOptions::all;
    for (const Detection& d : find(loaded(name), prepared_, options, Explain::never, work_).detections)
      places.push_back({d.x, d.y});
    return places;
  }

  const Report& report_;
  const GaugeSet& set_;
  const PreparedPicture& prepared_;
  const Frames& frames_;
  const HeightMap* heights_;
  bool fixed_;
  Work* work_;
  std::vector<std::map<PartIndex, Result>> results_;
  std::vector<std::vector<std::string>> follows_;
  mutable std::map<std::string, std::vector<Point2>> detections_;
};

}  // namespace

void require_measurable(const GaugeSet& set, bool in_millimetres) {
  set.require_valid();
  for (const Gauge& g : set.gauges)
    if (g.anchor == "world" && !in_millimetres)
      fail_argument(fmt::format("gauge '{}' stays in the world; give a mapping", g.name));
  for (const Gauge& g : set.gauges) {
    // Heights are in millimetres without a mapping.
    const auto* value = std::get_if<ValueGauge>(&g.kind);
    const Gauge& measured_by = value ? *set.gauge(value->of) : g;
    if (std::holds_alternative<ProfileGauge>(measured_by.kind)) continue;
    const bool in_mm = g.unit == "mm" || g.unit == "mm2", in_px = g.unit == "px" || g.unit == "px2";
    if (g.limits.any() && ((in_mm && !in_millimetres) || (in_px && in_millimetres)))
      fail_argument(fmt::format("gauge '{}' has limits in {}, and it is measured in {}; {}", g.name, g.unit,
                                in_millimetres ? "millimetres" : "pixels",
                                in_millimetres ? "leave the mapping out" : "give a mapping"));
  }
}

void measure(Report& report, const GaugeSet& set, const PreparedPicture& prepared, const Frames& frames,
             const MeasureOptions& options, Work* work) {
  require_measurable(set, frames.mapping != nullptr);
  const auto add = [&](Measuring&& measuring, bool fixed) {
    // Part by part in the gauges' order, then what belongs to no part.
    std::vector<PartIndex> parts;
    for (size_t i = 0; i < report.parts.size(); ++i) parts.emplace_back(i);
    parts.emplace_back();
    for (const PartIndex part : parts)
      for (size_t i = 0; i < set.gauges.size(); ++i) {
        if (fixed && measuring.followed(i).empty()) continue;
        auto& results = measuring.of(i);
        const auto own = results.find(part);
        if (own == results.end()) continue;
        Reading reading = judged(set.gauges[i], set, std::move(own->second.measured));
        reading.part = part, reading.fixed = fixed;
        report.readings.push_back(std::move(reading));
      }
  };
  report.readings.clear();
  const MeasuringInput input{report, set, prepared, frames, options.heights ? &*options.heights : nullptr,
                             work};
  add(Measuring(input, false), false);
  if (options.fixed_too) add(Measuring(input, true), true);
  judge(report, set);
}

}  // namespace heron
