#include "heron/locate/marker.hpp"
#include "heron/locate/names.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/base/work.hpp"
#include "heron/feature/ring_mark.hpp"
#include "locate/common/find_options.hpp"
#include "locate/common/misses.hpp"
#include "locate/common/polarity.hpp"
#include "rim.hpp"

namespace heron {
namespace {

/// What a fit is worth, and why.
struct Quality {
  double total = 0, rim = 0, scatter = 0, misfit = 0, contrast = 0, diameter = 0, sigma = 0;
};

double diameter_of(const RimFit& fit) { return 2 * std::sqrt(fit.long_axis() * fit.short_axis()); }

Quality quality_of(const RimFit& fit, double taught_diameter, double tolerance) {
  Quality q;
  q.rim = 100 * fit.rim;
  q.scatter = fit.scatter;
  q.misfit = 100 * fit.misfit;
  q.contrast = fit.contrast / std::max(fit.noise, 0.3);
  q.sigma = std::hypot(fit.sigma_x, fit.sigma_y) / std::numbers::sqrt2;
  q.diameter = 100 * diameter_of(fit) / taught_diameter;
  const double away = (q.diameter - 100) / std::max(tolerance, 0.5),
               rough = std::hypot(q.scatter / (0.2 + 0.004 * fit.radius), q.misfit / 6);
  q.total = q.rim * (1 - std::exp(-q.contrast / 3)) / (1 + rough * rough) *
            std::clamp(1 - 0.25 * away * away, 0.0, 1.0);
  return q;
}

Detection detection_of(const RimFit& fit, const Quality& q, const std::string& name) {
  Detection s{.target = name, .x = fit.centre.x, .y = fit.centre.y};
  s.score = q.total, s.contrast = fit.contrast;
  s.sigma.x = fit.sigma_x, s.sigma.y = fit.sigma_y;
  s.sigma.scale = fit.sigma_radius / fit.radius;
  s.has_angle = false;
  s.measurements = {{measurement::diameter, diameter_of(fit)},
                    {measurement::axis_ratio, fit.short_axis() / fit.long_axis()},
                    {measurement::quality_total, q.total},
                    {measurement::quality_rim, q.rim},
                    {measurement::quality_scatter, q.scatter},
                    {measurement::quality_misfit, q.misfit},
                    {measurement::quality_contrast, q.contrast},
                    {measurement::quality_diameter, q.diameter},
                    {measurement::quality_sigma, q.sigma}};
  s.rim = static_cast<const Ellipse&>(fit);
  const Angle long_way = radians(0.5 * std::atan2(fit.b, fit.a));
  s.lengths = {{measurement::diameter, fit.at(long_way + 180_deg), fit.at(long_way), fit.sigma_radius}};
  // The rim in pieces, by whether it is seen.
  const size_t sectors = fit.seen.size();
  constexpr double turn = 2 * std::numbers::pi;
  for (size_t i = 0; i < sectors;) {
    size_t end = i + 1;
    while (end < sectors && fit.seen[end] == fit.seen[i]) ++end;
    Contour trace{.points = {}, .closed = i == 0 && end == sectors, .seen = fit.seen[i]};
    const double first = turn * static_cast<double>(i) / static_cast<double>(sectors),
                 last = turn * static_cast<double>(end) / static_cast<double>(sectors);
    const int steps = std::max(4, static_cast<int>((last - first) * fit.radius / 3));
    for (int k = 0; k <= steps; ++k)
      trace.points.push_back(fit.at(radians(first + (last - first) * k / steps)));
    s.contours.push_back(std::move(trace));
    i = end;
  }
  return s;
}

/// A fit with what it is worth.
struct RimCandidate {
  RimFit fit;
  Quality quality;
};

std::vector<RimCandidate> candidates_of(const PreparedPicture& prepared, const RimSearch& search,
                                        double diameter, double tolerance, Work* work) {
  std::vector<FourierRim> waves;
  for (const RimGuess& guess : vote_for_rims(prepared, search)) {
    if (work && work->stopped()) break;
    if (const auto wave = settle_rim(prepared, guess, search)) waves.push_back(*wave);
  }
  std::stable_sort(waves.begin(), waves.end(),
                   [](const FourierRim& a, const FourierRim& b) { return a.met > b.met; });
  std::vector<RimCandidate> all;
  std::vector<FourierRim> fitted;
  for (const FourierRim& wave : waves) {
    if (work && work->stopped()) break;
    // Many guesses settle on one rim.
    const auto same_rim = [&](const FourierRim& other) {
      return distance(other.centre, wave.centre) < 0.15 * wave.radius &&
             std::abs(other.radius / wave.radius - 1) < 0.1;
    };
    if (std::any_of(fitted.begin(), fitted.end(), same_rim)) continue;
    fitted.push_back(wave);
    const auto fit = fit_rim(prepared, wave, search);
    if (!fit) continue;
    const RimCandidate c{*fit, quality_of(*fit, diameter, tolerance)};
    const auto same = std::find_if(all.begin(), all.end(), [&](const RimCandidate& other) {
      return distance(other.fit.centre, fit->centre) < 0.5 * fit->radius;
    });
    if (same == all.end())
      all.push_back(c);
    else if (c.quality.total > same->quality.total)
      *same = c;
  }
  std::stable_sort(all.begin(), all.end(), [](const RimCandidate& a, const RimCandidate& b) {
    return a.quality.total > b.quality.total;
  });
  return all;
}

Box centres_of(const PreparedPicture& prepared, const Region& region) {
  return region.empty()
             ? Box{-0.5, -0.5, static_cast<double>(prepared.width()), static_cast<double>(prepared.height())}
             : region.bounds();
}

RimSearch search_for(const MarkerTarget& target, const PreparedPicture& prepared,
                     const FindOptions& options) {
  const MarkerSettings& s = target.settings();
  const double radius = 0.5 * s.diameter, tolerance = s.tolerance / 100;
  return {.min_radius = radius * (1 - tolerance),
          .max_radius = radius * (1 + tolerance),
          .dark = s.tone == MarkerTone::dark,
          .min_contrast = options.min_contrast,
          .min_votes = (0.95 - 0.5 * effort_of(options.thoroughness)) * s.min_rim / 100,
          .min_rim = s.min_rim / 100,
          .most = static_cast<int>(16 * std::pow(16.0, effort_of(options.thoroughness))),
          .centres = centres_of(prepared, options.region)};
}

std::vector<MissReason> limits_missed(const RimCandidate& c, const MarkerSettings& s,
                                      const FindOptions& options) {
  std::vector<MissReason> missed;
  const double percent = c.quality.diameter;
  if (c.fit.contrast < options.min_contrast)
    missed.push_back(too_low(limit::contrast, c.fit.contrast, options.min_contrast));
  if (std::abs(percent - 100) > s.tolerance)
    missed.push_back({limit::diameter, diameter_of(c.fit),
                      fmt::format("{:.4g}..{:.4g}", s.diameter * (1 - s.tolerance / 100),
                                  s.diameter * (1 + s.tolerance / 100)),
                      2 * c.fit.sigma_radius});
  if (c.quality.rim < s.min_rim) missed.push_back(too_low(limit::rim, c.quality.rim, s.min_rim));
  return missed;
}

/// What else is round there: of another size or tone, or outside the region.
std::vector<RimCandidate> reasons_beyond(const MarkerTarget& target, const PreparedPicture& prepared,
                                         const FindOptions& options, Work* work) {
  const MarkerSettings& s = target.settings();
  std::vector<RimCandidate> all;
  for (const double factor : {1.0, 0.82, 1.22}) {
    RimSearch wide = search_for(target, prepared, options);
    wide.min_radius = 0.5 * s.diameter * factor * 0.88, wide.max_radius = 0.5 * s.diameter * factor * 1.12;
    wide.min_contrast = std::min(options.min_contrast, std::max(3.0, 3 * prepared.noise_sigma(0)));
    wide.min_votes = 0.25, wide.min_rim = 0.3, wide.most = 12;
    wide.centres = centres_of(prepared, {});
    for (RimCandidate& c : candidates_of(prepared, wide, s.diameter, 30, work)) {
      const auto same = [&](const RimCandidate& o) {
        return distance(o.fit.centre, c.fit.centre) < 0.5 * c.fit.radius;
      };
      c.quality = quality_of(c.fit, s.diameter, s.tolerance);
      // Reported for its roundness, not for the size that rejects it.
      if (c.fit.rim > 0.35 && std::none_of(all.begin(), all.end(), same)) all.push_back(std::move(c));
    }
  }
  std::stable_sort(all.begin(), all.end(), [](const RimCandidate& a, const RimCandidate& b) {
    return a.fit.rim / (1 + a.fit.scatter) > b.fit.rim / (1 + b.fit.scatter);
  });
  return all;
}

/// Ring marks are read by their own finder; here they are held against the target.
FindResult find_ring(const MarkerSettings& s, const PreparedPicture& prepared, const FindOptions& options) {
  RingSearch search;
  search.min_score = std::clamp(options.min_score, 40.0, 90.0);
  search.min_diameter_px = std::max(12.0, 0.6 * s.diameter);
  FindResult result;
  for (const RingSeen& ring : find_ring_marks(prepared.level(0), search)) {
    Detection one{.target = s.name, .x = ring.centre.x, .y = ring.centre.y};
    one.angle = ring.angle, one.score = ring.score, one.contrast = ring.contrast, one.sigma = ring.sigma;
    const double percent = 100 * ring.diameter_px / s.diameter,
                 sigma = std::hypot(*ring.sigma.x, *ring.sigma.y);
    one.measurements = {{measurement::diameter, ring.diameter_px},
                        {measurement::axis_ratio, ring.axis_ratio},
                        {measurement::identity, static_cast<double>(ring.identity)},
                        {measurement::quality_total, ring.score},
                        {measurement::quality_contrast, ring.contrast / std::max(ring.noise, 0.3)},
                        {measurement::quality_diameter, percent},
                        {measurement::quality_sigma, sigma / std::numbers::sqrt2}};
    Contour rim;
    for (int i = 0; i < 90; ++i) rim.points.push_back(apply(ring.pixel_from_mark, unit(degrees(4 * i))));
    one.contours.push_back(std::move(rim));
    std::vector<MissReason> missed;
    if (s.identity >= 0 && ring.identity != s.identity)
      missed.push_back({limit::identity, static_cast<double>(ring.identity), fmt::format("{}", s.identity)});
    if (std::abs(percent - 100) > s.tolerance)
      missed.push_back({limit::diameter, ring.diameter_px,
                        fmt::format("{:.4g}..{:.4g}", s.diameter * (1 - s.tolerance / 100),
                                    s.diameter * (1 + s.tolerance / 100))});
    take(result, std::move(one), options, std::move(missed));
  }
  keep_nearest(result);
  return result;
}

void require_valid(const MarkerSettings& s) {
  if (!(s.diameter == 0 || (s.diameter >= 8 && s.diameter <= 2000)))
    fail_argument(fmt::format("a marker's diameter of {:g} pixels must be from 8 to 2000, or 0 to learn it",
                              s.diameter));
  if (!(s.tolerance >= 0.5 && s.tolerance <= 40))
    fail_argument(fmt::format("a tolerance of {:g} per cent must be from 0.5 to 40", s.tolerance));
  if (!(s.min_rim >= 20 && s.min_rim <= 100))
    fail_argument(fmt::format("min rim {:g} per cent must be from 20 to 100", s.min_rim));
}

}  // namespace

const KindInfo& MarkerTarget::info() {
  static const KindInfo kind{.id = "marker",
                             .what = "a round hole or reflector of known diameter",
                             .options = {"min score", "min contrast", "count", "thoroughness", "region"}};
  return kind;
}

const std::vector<SettingRow<MarkerSettings>>& MarkerTarget::rows() {
  static const std::vector<SettingRow<MarkerSettings>> rows{
      {"tone",
       SettingWord<MarkerSettings>{[](const MarkerSettings& s) { return static_cast<int>(s.tone); },
                                   [](MarkerSettings& s, int i) { s.tone = static_cast<MarkerTone>(i); },
                                   {"learn", "dark", "bright", "ring"}},
       "dark for a hole, bright for a reflector, ring for a coded ring mark, or learn"},
      {"diameter", &MarkerSettings::diameter, "diameter, pixels; 0: learned from the region"},
      {"tolerance", &MarkerSettings::tolerance, "largest difference of the diameter, per cent"},
      {"min_rim", &MarkerSettings::min_rim, "smallest visible share of the rim, per cent"},
      {"identity", &MarkerSettings::identity, "identity of a ring mark; below 0: any"}};
  return rows;
}

MarkerTarget MarkerTarget::taught_from(const TeachingPicture& from, MarkerSettings s) {
  require_valid(s);
  TaughtPicture taught = cut_out(from, s.origin, 12);
  const PreparedPicture prepared{Image<uint8_t>(taught.pixels)};
  const Box box = from.region.bounds();
  const Point2 corner = s.origin.value_or(box.centre()) - taught.origin;  // of the cut
  if (s.tone == MarkerTone::learn || s.tone == MarkerTone::ring) {
    for (const RingSeen& ring : find_ring_marks(prepared.level(0))) {
      if (!from.region.contains(ring.centre + corner) || (s.identity >= 0 && s.identity != ring.identity))
        continue;
      s.tone = MarkerTone::ring, s.identity = ring.identity;
      if (s.diameter == 0) s.diameter = ring.diameter_px;
      taught.origin = ring.centre;
      MarkerTarget target(std::move(taught), std::move(s));
      target.learned_ = {{measurement::quality_total, ring.score},
                         {measurement::quality_contrast, ring.contrast / std::max(ring.noise, 0.3)}};
      return target;
    }
    if (s.tone == MarkerTone::ring)
      fail_argument(
          "teach: no ring mark is read in the region; it must lie inside as a whole, 18 pixels or more "
          "across");
  }
  const double largest = 0.62 * std::min(box.width, box.height);
  // Rings of radii, each a good step from the next; the most distinct round thing is meant, and of concentric
  // ones that with the strongest edge.
  std::optional<RimFit> best;
  bool best_dark = true;
  double best_worth = 0;
  for (const bool dark : {true, false}) {
    if ((s.tone == MarkerTone::dark && !dark) || (s.tone == MarkerTone::bright && dark)) continue;
    double radius = s.diameter > 0 ? 0.5 * s.diameter : 4;
    for (; radius <= (s.diameter > 0 ? 0.5 * s.diameter : largest); radius *= 1.18) {
      const RimSearch search{.min_radius = radius * 0.9,
                             .max_radius = radius * 1.1,
                             .dark = dark,
                             .min_contrast = s.options.min_contrast,
                             .min_votes = 0.3,
                             .most = 8,
                             .centres = {box.x - corner.x, box.y - corner.y, box.width, box.height}};
      for (const RimCandidate& c : candidates_of(prepared, search, 2 * radius, 20, nullptr)) {
        const bool in = from.region.contains(c.fit.centre + corner);
        const double worth = c.fit.contrast * c.fit.rim * c.fit.rim / (1 + 2 * c.fit.scatter);
        if (in && c.fit.rim > 0.4 && worth > best_worth) best = c.fit, best_dark = dark, best_worth = worth;
      }
    }
  }
  if (!best)
    fail_argument(
        fmt::format("teach: nothing round is seen in the region ({:g} x {:g} pixels): a marker needs a rim "
                    "of at least {:g} grey "
                    "levels, 8 pixels or more across, inside it as a whole",
                    box.width, box.height, s.options.min_contrast));
  for (int i = 0; i < 72; ++i)
    if (const Point2 p = best->at(degrees(5 * i)) + corner; !from.region.contains(p))
      fail_argument(fmt::format(
          "teach: the round thing at ({:.1f}, {:.1f}), {:.1f} pixels across, touches the region's "
          "edge at ({:.0f}, {:.0f}); draw the region so that all of its rim lies inside",
          best->centre.x + corner.x, best->centre.y + corner.y, diameter_of(*best), p.x, p.y));
  if (s.diameter == 0) s.diameter = diameter_of(*best);
  s.tone = best_dark ? MarkerTone::dark : MarkerTone::bright;
  taught.origin = best->centre;
  const Quality q = quality_of(*best, s.diameter, s.tolerance);
  if (q.total < s.options.min_score)
    fail_argument(fmt::format(
        "teach: the round thing at ({:.1f}, {:.1f}), {:.1f} pixels across, comes to a score of {:.0f}, the "
        "min score is {:g}, so the target would not find itself ({:.0f} % of the rim is seen, which is "
        "{:.2f} pixels off an ellipse; {:.0f} % of the contrast is not that of a round thing): teach it as "
        "an outline or a pattern, or lower the min score",
        best->centre.x + corner.x, best->centre.y + corner.y, diameter_of(*best), q.total,
        s.options.min_score, q.rim, q.scatter, q.misfit));
  MarkerTarget target(std::move(taught), std::move(s));
  target.learned_ = {{measurement::quality_total, q.total},       {measurement::quality_rim, q.rim},
                     {measurement::quality_scatter, q.scatter},   {measurement::quality_misfit, q.misfit},
                     {measurement::quality_contrast, q.contrast}, {measurement::quality_sigma, q.sigma}};
  return target;
}

MarkerTarget::MarkerTarget(TaughtPicture taught, MarkerSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.options, 1);
  if (settings_.diameter == 0 || settings_.tone == MarkerTone::learn) {
    // Only the picture is left of it: learned anew from what counts there.
    const MarkerTarget again =
        taught_from({.grey = taught_->pixels,
                     .region = Region::rectangle({-0.5, -0.5, static_cast<double>(taught_->pixels.width()),
                                                  static_cast<double>(taught_->pixels.height())})},
                    settings_);
    settings_ = again.settings_;
  }
}

std::vector<Measurement> MarkerTarget::facts() const {
  if (settings_.tone == MarkerTone::ring)
    return {{measurement::diameter, settings_.diameter},
            {measurement::identity, static_cast<double>(settings_.identity)}};
  std::vector<Measurement> facts{{measurement::diameter, settings_.diameter},
                                 {"dark", settings_.tone == MarkerTone::dark ? 1.0 : 0.0}};
  facts.insert(facts.end(), learned_.begin(), learned_.end());
  return facts;
}

std::vector<Contour> MarkerTarget::contours() const {
  Contour rim;
  for (int i = 0; i < 120; ++i)
    rim.points.push_back(taught_->origin + unit(degrees(3 * i)) * (0.5 * settings_.diameter));
  return {rim};
}

Box MarkerTarget::extent() const {
  const double d = settings_.diameter;
  return {-d / 2, -d / 2, d, d};
}

FindResult find(const MarkerTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain, Work* work) {
  require_valid(options, 1);
  const MarkerSettings& s = target.settings();
  if (s.tone == MarkerTone::ring) return find_ring(s, prepared, options);
  FindResult result;
  std::vector<Point2> told;
  FindOptions within = options;  // a centre lies in the picture, too
  if (within.region.empty()) within.region = Region::rectangle(centres_of(prepared, {}));
  const auto judge = [&](const std::vector<RimCandidate>& candidates, double min_total) {
    for (const RimCandidate& c : candidates) {
      const auto near = [&](Point2 p) { return distance(p, c.fit.centre) < 0.5 * c.fit.radius; };
      if (std::any_of(told.begin(), told.end(), near)) continue;
      const size_t before = result.misses.size();
      take(result, detection_of(c.fit, c.quality, s.name), within, limits_missed(c, s, options));
      if (result.misses.size() > before && c.quality.total < min_total)
        result.misses.pop_back();
      else
        told.push_back(c.fit.centre);
    }
  };
  judge(candidates_of(prepared, search_for(target, prepared, options), s.diameter, s.tolerance, work),
        0.2 * options.min_score);
  if (explain == Explain::always) {
    const size_t before = result.detections.size();
    judge(reasons_beyond(target, prepared, options, work), 0);
    // A search beyond the limits is for reasons alone.
    result.detections.resize(before);
  }
  result.complete = !(work && work->stopped());
  keep_nearest(result);
  return result;
}

}  // namespace heron
