#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "heron/gauge/measure.hpp"
#include "heron/image/relief.hpp"
#include "measured.hpp"

namespace heron {
namespace {

/// The targets that gauges follow, each once.
std::vector<const GaugeTarget*> followed_targets(const GaugeSet& set) {
  std::vector<const GaugeTarget*> followed;
  for (const GaugeTarget& t : set.targets)
    if (std::any_of(set.gauges.begin(), set.gauges.end(), [&](const Gauge& g) { return g.anchor == t.name; }))
      followed.push_back(&t);
  return followed;
}

/// The parts as they lie on the reference picture.
Report reference_report(const GaugeSet& set) {
  Report report;
  for (const GaugeTarget& t : set.targets) {
    ReportedPart part;
    part.detection.target = t.name;
    part.detection.x = t.reference.x, part.detection.y = t.reference.y;
    part.detection.angle = t.reference.angle, part.detection.scale = t.reference.scale;
    report.parts.push_back(std::move(part));
  }
  return report;
}

}  // namespace

PreparedPicture prepare(const Picture& picture, const GaugeSet& gauges) {
  const auto* color = std::get_if<Image<Rgb>>(&picture.pixels);
  if (const auto* heights = std::get_if<Image<float>>(&picture.pixels)) {
    // Targets are found by their relief; without one any step serves, since nothing looks at it.
    for (const GaugeTarget& t : gauges.targets)
      if (t.target) return prepare(picture, *t.target);
    constexpr double any_step_mm = 0.1;
    return PreparedPicture(relief_of(*heights, any_step_mm).pixels);
  }
  const bool wanted = std::any_of(gauges.targets.begin(), gauges.targets.end(), [](const GaugeTarget& t) {
    return t.target && t.target->info().looks_at_color;
  });
  if (color && wanted) return PreparedPicture(Image<Rgb>(color->view()));
  return PreparedPicture(grey_levels(picture));
}

std::optional<HeightMap> height_map_of(const Picture& picture) {
  const auto* heights = std::get_if<Image<float>>(&picture.pixels);
  if (!heights) return std::nullopt;
  require_square_pixels(picture);
  if (!picture.pitch_mm)
    fail_argument(fmt::format(
        "{}: its file does not say how wide a pixel is; `heron level --pitch` writes it", picture.name));
  return HeightMap{heights->view(), picture.pitch_mm->x};
}

Report find_and_measure(const GaugeSet& gauges, const PreparedPicture& prepared, const Frames& frames,
                        const MeasureOptions& options, Work* work) {
  Report report;
  for (const GaugeTarget* t : followed_targets(gauges)) {
    if (!t->target) fail_argument(fmt::format("target '{}' of the gauges is not loaded", t->name));
    FindResult found = find(*t->target, prepared, t->target->options(), Explain::never, work);
    if (found.detections.empty())  // why is asked for only then
      found = find(*t->target, prepared, t->target->options(), Explain::always, work);
    report.complete = report.complete && found.complete;
    add_result(report, std::move(found), frames, t->target->geometry());
  }
  measure(report, gauges, prepared, frames, options, work);
  return report;
}

std::optional<Point2> drawn_at(const GaugeKind& kind) {
  return std::visit(
      [](const auto& k) {
        std::optional<Point2> at;
        const auto look = [&](const std::vector<double>& shape) {
          if (shape.size() >= 2) at = Point2{shape[0], shape[1]};
        };
        if constexpr (requires { k.band; }) look(k.band);
        if constexpr (requires { k.ring; }) look(k.ring);
        if constexpr (requires { k.disc; }) look(k.box), look(k.disc), look(k.polygon);
        return at;
      },
      kind);
}

std::optional<GaugeTarget> attached(const Target& target, const std::string& file,
                                    const PreparedPicture& reference, std::optional<Point2> near) {
  FindOptions options = target.options();
  if (near) options.max_count = FindOptions::all;
  const FindResult found = find(target, reference, options, Explain::never);
  if (found.detections.empty()) return std::nullopt;
  const auto off = [&](const Detection& d) { return near ? distance({d.x, d.y}, *near) : -d.score; };
  const Detection& best =
      *std::min_element(found.detections.begin(), found.detections.end(),
                        [&](const Detection& a, const Detection& b) { return off(a) < off(b); });
  return GaugeTarget{.name = target.name(),
                     .file = file,
                     .reference = {best.x, best.y, best.angle, best.scale},
                     .stamp = stamp_of(target),
                     .target = target};
}

std::vector<Reading> add_gauge(GaugeSet& gauges, Gauge gauge, const PreparedPicture& reference,
                               const Frames& frames, const MeasureOptions& options) {
  GaugeSet with = gauges;
  if (auto* fill = std::get_if<FillGauge>(&gauge.kind);
      fill && !fill->light_box.empty() && fill->light_box.size() == 5) {
    const std::vector<double> none;
    const Placement placement = gauge.anchor == "world" && frames.mapping
                                    ? Placement::in_world(*frames.mapping, frames.axes)
                                    : Placement::fixed();
    const AreaPixels box =
        pixels_of({fill->light_box, none, none, none}, placement, reference.width(), reference.height());
    double sum = 0;
    for (int y = 0; y < box.mask.height(); ++y)
      for (int x = 0; x < box.mask.width(); ++x)
        if (box.mask(x, y)) sum += reference.level(0)(box.left + x, box.top + y);
    if (box.count == 0 || box.inside < 1)
      fail_argument(
          fmt::format("gauge '{}': its reference box reaches out of the reference picture", gauge.name));
    fill->light_level = sum / static_cast<double>(box.count);
  }
  const std::string name = gauge.name, anchor = gauge.anchor;
  const bool follows_gauge = with.gauge(anchor) != nullptr;
  with.gauges.push_back(std::move(gauge));
  with.require_valid();
  if (follows_gauge) {
    Report before = reference_report(with);
    measure(before, gauges, reference, frames, options);
    const auto of = std::find_if(before.readings.begin(), before.readings.end(),
                                 [&](const Reading& r) { return r.gauge == anchor; });
    if (!of->value)
      throw Error(ErrorCode::not_determined,
                  fmt::format("gauge '{}' follows '{}', which is {} on the reference picture: {}", name,
                              anchor, word_of(of->state), of->reason));
    with.gauges.back().anchor_at = of->at;
  }
  Report report = reference_report(with);
  measure(report, with, reference, frames, options);
  std::vector<Reading> own;
  for (Reading& r : report.readings)
    if (r.gauge == name) own.push_back(std::move(r));
  gauges = std::move(with);
  return own;
}

std::vector<ConfirmedTarget> confirm(GaugeSet& gauges, const PreparedPicture& reference) {
  std::vector<ConfirmedTarget> all;
  for (GaugeTarget& t : gauges.targets) {
    if (!t.target) fail_argument(fmt::format("target '{}' of the gauges is not loaded", t.name));
    ConfirmedTarget result{.name = t.name, .changed = difference(t.stamp, stamp_of(*t.target))};
    FindOptions options = t.target->options();
    options.max_count = FindOptions::all;
    const FindResult found = find(*t.target, reference, options, Explain::never);
    const Detection* nearest = nullptr;
    const auto off = [&](const Detection& d) { return distance({d.x, d.y}, t.reference.position()); };
    for (const Detection& d : found.detections)
      if (!nearest || off(d) < off(*nearest)) nearest = &d;
    if (nearest) {
      result.found = true, result.moved_px = off(*nearest);
      t.reference = {nearest->x, nearest->y, nearest->angle, nearest->scale};
    }
    // A color or a count has no pose that shapes depend on.
    bool followed = false;
    for (const Gauge& g : gauges.gauges) {
      followed = followed || g.anchor == t.name;
      if (const auto* detail = std::get_if<DetailGauge>(&g.kind))
        followed = followed || detail->target == t.name;
      if (const auto* border = std::get_if<BorderGauge>(&g.kind))
        followed = followed || border->target == t.name;
    }
    if (nearest || !followed) t.stamp = stamp_of(*t.target), t.changed.clear();
    all.push_back(std::move(result));
  }
  return all;
}

}  // namespace heron
