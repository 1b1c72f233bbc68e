#include "refine.hpp"

#include <cmath>
#include <numbers>

#include "locate/pattern/grey/grey_model.hpp"
#include "locate/pattern/grey/same_phase.hpp"
#include "locate/pattern/model/part_size.hpp"

namespace heron {
namespace {

GradientSign rise_of(Polarity polarity) {
  return polarity == Polarity::per_edge   ? GradientSign::either
         : polarity == Polarity::inverted ? GradientSign::down
                                          : GradientSign::up;
}

void take_seen(Candidate& c, SeenEdges seen, const PatternSearch& search) {
  c.score = seen.score, c.contrast = seen.contrast;
  c.seen = std::make_shared<const SeenEdges>(std::move(seen));
  c.outside = share_outside(search.prepared.level(0), search.target.columns()[0], c.pose);
}

/// Of the poses in which a part with a symmetry looks the same: the one whose angle lies nearest to the
/// middle of the range, to 0 when that is a full turn.
Similarity2 told_pose(const Similarity2& pose, const PatternModel& target, const Range<Angle>& range) {
  if (target.symmetry() < 2) return pose;
  const double period = 2 * std::numbers::pi / target.symmetry();
  const double width = range.max.radians() - range.min.radians();
  const double middle = width < 2 * std::numbers::pi - 1e-9 ? range.min.radians() + width / 2 : 0;
  const double angle = middle + std::remainder(pose.angle.radians() - middle, period);
  Similarity2 told = pose;
  told.angle = radians(angle).wrapped();
  const Point2 centre = pose * target.symmetry_centre();
  const Point2 origin = centre - rotated(target.symmetry_centre(), told.angle) * pose.scale;
  told.x = origin.x, told.y = origin.y;
  return told;
}

}  // namespace

EdgeFitSearch edge_search(const PatternSearch& search, int level) {
  EdgeFitSearch e{
      .level = level,
      .reach = 3,
      .min_contrast = search.reach.min_contrast,
      .rise = rise_of(search.reach.polarity),
      .free_angle = search.free_angle(),
      .free_scale = search.free_scale(),
      .rounds = 2,
      .noise_sigma = std::hypot(search.prepared.noise_sigma(0), search.target.greys()->noise_sigma)};
  if (level > 0) e.min_contrast = std::max(weakest_contrast, 0.5 * search.coarse_contrast());
  return e;
}

void see(Candidate& c, const PatternSearch& search) {
  const EdgeColumns& edges = search.target.columns()[0];
  take_seen(c, see_edges(search.prepared.level(0), edges, c.pose, search.reach.min_contrast, c.rise), search);
}

bool refine(Candidate& c, const EdgeFitSearch& edge, double min_score, const PatternSearch& search) {
  const Image<uint8_t>& picture = search.prepared.level(0);
  const PatternModel& target = search.target;
  const auto settle = [&](const Similarity2& pose, FitSigma sigma) {
    if (!target.has_angle()) sigma.angle = degrees(180);
    c.pose = pose, c.sigma = sigma;
  };
  SeenEdges seen;
  EdgeFit fit = fit_edges(picture, target.columns()[0], c.pose, edge, &seen);
  if (fit.fitted && edge.level == 0 && share_a_phase(fit.pose, half_diagonal(target))) {
    const Point2 contribution = bias_of_edges(target.columns()[0], fit.pose);
    fit.sigma.x = std::hypot(fit.sigma.x, contribution.x),
    fit.sigma.y = std::hypot(fit.sigma.y, contribution.y);
  }
  if (fit.fitted) settle(fit.pose, fit.sigma);
  if (fit.fitted)
    take_seen(c, std::move(seen), search);
  else
    see(c, search);
  if (search.reach.polarity == Polarity::per_edge || c.score < min_score) return fit.fitted;
  GreySearch by_grey{edge.free_angle, edge.free_scale, search.prepared.noise_sigma(0)};
  if (fit.fitted) by_grey.edges = fit.sigma;
  const GreyFit grey = fit_greys(picture, *target.greys(), c.seen->weights, c.pose, by_grey);
  if (!grey.fitted) return fit.fitted;
  const double moved = distance(grey.pose.position(), c.pose.position());
  settle(grey.pose, grey.sigma);
  if (moved > 0.05) see(c, search);
  return fit.fitted;
}

Candidate finished(Candidate c, const PatternSearch& search) {
  EdgeFitSearch edge = edge_search(search, 0);
  // The fit before has brought it near, and no farther off does an edge count; a pose taken for one that
  // looks the same has not been fitted there.
  edge.rounds = search.target.symmetry() > 1 ? 2 : 1, edge.reach = 2;
  c.pose = told_pose(c.pose, search.target, search.reach.angle);
  refine(c, edge, search.reach.min_score, search);
  return c;
}

}  // namespace heron
