#include <fmt/format.h>

#include <optional>

#include "candidates.hpp"
#include "faint_edges.hpp"
#include "heron/locate/names.hpp"
#include "locate/common/find_options.hpp"
#include "locate/pattern/model/part_size.hpp"
#include "refine.hpp"
#include "rivals.hpp"

namespace heron {
namespace {

Box whole(const PreparedPicture& prepared) { return {0, 0, prepared.width() - 1.0, prepared.height() - 1.0}; }

PatternReach asked(const FindOptions& options, const PatternModel& target, const PreparedPicture& prepared) {
  PatternReach reach{options.angle,
                     options.scale,
                     options.min_contrast,
                     options.min_score,
                     polarity_of(options.inversion),
                     effort_of(options.thoroughness),
                     1 - options.min_visible,
                     whole(prepared)};
  if (options.region.empty()) return reach;
  const Box box = options.region.bounds();
  const double around = norm(target.to_centred()) * options.scale.max;
  reach.origins = {box.x - around, box.y - around, box.width + 2 * around, box.height + 2 * around};
  reach.told_origin = target.to_centred() * -1;
  if (around > 0) reach.told_origins = box;
  return reach;
}

PatternReach beyond(const FindOptions& options, const PreparedPicture& prepared) {
  return {full_turn,
          {std::min(options.scale.min, 0.4), std::max(options.scale.max, 2.5)},
          std::min(options.min_contrast, weakest_contrast),
          0.6 * options.min_score,
          polarity_of(options.inversion),
          effort_of(options.thoroughness),
          1 - options.min_visible,
          whole(prepared),
          true};
}

/// `c` with angle or scale, or both, held where they now are, fitted and seen anew; nothing when that does
/// not come to `min_score`.
std::optional<Candidate> held_at(Candidate c, bool hold_angle, bool hold_scale, double min_score,
                                 const PatternSearch& search) {
  EdgeFitSearch edge = edge_search(search, 0);
  edge.rise = c.rise, edge.rounds = 3;
  edge.free_angle = edge.free_angle && !hold_angle, edge.free_scale = edge.free_scale && !hold_scale;
  const FitSigma before = c.sigma;
  if (!refine(c, edge, min_score, search) || c.score < min_score) return std::nullopt;
  // A held parameter has no sigma of its own.
  if (!edge.free_angle) c.sigma.angle = before.angle;
  if (!edge.free_scale) c.sigma.scale = before.scale;
  return c;
}

/// What the search for reasons freed although the limits fix it is held again: where the part fits as well,
/// that is not the reason.
Candidate fixed_again(Candidate c, const PatternSearch& search, const FindOptions& options) {
  const PatternModel& target = search.target;
  const double radius = half_diagonal(target), far = 6;  // pixels; farther off, no edge would be met again
  const bool scale_is_fixed = options.scale.max == options.scale.min && c.pose.scale != options.scale.min,
             angle_is_fixed = target.has_angle() && options.angle.max == options.angle.min &&
                              !contains_turned(options.angle, c.pose.angle);
  if (scale_is_fixed && radius * std::abs(std::log(options.scale.min / c.pose.scale)) < far) {
    Candidate there = c;
    there.pose.scale = options.scale.min;
    if (const auto held = held_at(there, false, true, 0.9 * c.score, search)) c = *held;
  }
  if (angle_is_fixed && radius * std::abs((options.angle.min - c.pose.angle).wrapped().radians()) < far) {
    Candidate there = c;
    there.pose.angle = options.angle.min.wrapped();
    const bool hold_scale = c.pose.scale == options.scale.min;
    if (const auto held = held_at(there, true, hold_scale, 0.9 * c.score, search)) c = *held;
  }
  return c;
}

/// A find of the centred target, moved to the target's own origin. About the middle of a part its
/// place and its angle are known nearly by themselves.
Candidate report_at_origin(Candidate c, const PatternModel& target) {
  const Point2 far = rotated(target.to_centred() * -1, c.pose.angle) * c.pose.scale;
  if (far == Point2{}) return c;
  const double turn = target.has_angle() ? c.sigma.angle.radians() : 0, grow = c.sigma.scale / c.pose.scale;
  c.pose.x += far.x, c.pose.y += far.y;
  if (c.other) {
    const Point2 to = rotated(target.to_centred() * -1, c.other->angle) * c.other->scale;
    c.other->x += to.x, c.other->y += to.y;
  }
  c.sigma.x = std::hypot(c.sigma.x, far.y * turn, far.x * grow);
  c.sigma.y = std::hypot(c.sigma.y, far.x * turn, far.y * grow);
  return c;
}

/// What a search comes to within the limits.
FindResult found_by(const PatternSearch& search, const PatternModel& target, const FindOptions& options) {
  std::vector<Candidate> candidates = candidates_of(search);
  settle_rivals(candidates, search);
  for (Candidate& c : candidates) {
    c = fixed_again(c, search, options);
    if (search.reach.min_contrast < options.min_contrast)
      weigh_faint_edges(c, options, search.target, search.prepared);
    c = report_at_origin(c, target);
  }
  return apply_limits(target, search.prepared, std::move(candidates), options);
}

/// The search beyond the limits, for the reasons alone; with the brightness turned round when nothing else
/// comes near. Beside parts that were found, what hardly resembles them is no news.
std::vector<Miss> reasons_beyond(const PatternModel& target, const PreparedPicture& prepared,
                                 const FindOptions& options, bool some_found, Work* work) {
  PatternSearch wider{target.centred(), prepared, beyond(options, prepared), work};
  const auto look = [&] { return found_by(wider, target, options).misses; };
  std::vector<Miss> reasons = look();
  const auto is_near = [&](const Miss& m) { return m.score >= 0.8 * options.min_score; };
  if (some_found) {
    std::erase_if(reasons, [&](const Miss& m) { return !is_near(m); });
    return reasons;
  }
  const bool explained = !reasons.empty() && is_near(reasons[0]);
  if (explained || options.inversion != Inversion::none) return reasons;
  wider.reach.polarity = Polarity::inverted;
  std::vector<Miss> turned = look();
  const bool nearer = !turned.empty() && (reasons.empty() || turned[0].score > reasons[0].score);
  return nearer ? turned : reasons;
}

/// The limits with their contrast in grey levels, for a target of which one level stands for `unit`.
FindOptions in_grey_levels(FindOptions options, double unit) {
  options.min_contrast /= unit;
  return options;
}

}  // namespace

FindResult find(const PatternTarget& target, const PreparedPicture& prepared, const FindOptions& given,
                Explain explain, Work* work) {
  const double unit = target.grey_unit();
  require_valid(given, unit);
  const FindOptions options = in_grey_levels(given, unit);
  const PatternModel& model = target.model();
  const PatternSearch search{model.centred(), prepared, asked(options, model, prepared), work};
  FindResult result = found_by(search, model, options);
  if (explain == Explain::always)
    add_misses(result, reasons_beyond(model, prepared, options, !result.detections.empty(), work));
  result.complete = !search.stopped();
  if (unit == 1) return result;
  for (Detection& s : result.detections) s.contrast *= unit;
  for (Miss& m : result.misses)
    for (MissReason& l : m.reasons)
      if (l.name == limit::contrast)
        l.value *= unit, l.sigma *= unit, l.needed = fmt::format("at least {:g}", given.min_contrast);
  return result;
}

FindResult find(const PatternTarget& target, const PreparedPicture& prepared) {
  return find(target, prepared, target.settings().options);
}

}  // namespace heron
