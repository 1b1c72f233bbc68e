#include "scan_circle.hpp"

#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "locate/common/consensus.hpp"
#include "locate/scan/step_fit.hpp"

namespace heron {
namespace {

constexpr double agree_within = 1.5;  // pixels, of sectors that were not yet settled
constexpr double settle_reach = 5;    // pixels either side of a circle that is nearly known
constexpr double at_rest = 0.1;  // pixels; a circle that moved by less is met as it would be in its new place
constexpr double softest_edge = 2.5;  // sigma of the blur, pixels: softer changes are shading, not edges

/// A sector of a fan: its lanes.
struct Sector {
  size_t index = 0;
  int first = 0, end = 0;
  double across = 0;  ///< of its middle
};

std::vector<Sector> sectors_of(const Scan& fan) {
  const int lanes = fan.lanes(), count = std::clamp(lanes / 6, std::min(8, lanes), 120);
  std::vector<Sector> sectors;
  for (int i = 0; i < count; ++i) {
    const int first = i * lanes / count, end = (i + 1) * lanes / count;
    sectors.push_back({static_cast<size_t>(i), first, end, 0.5 * (fan.lane(first) + fan.lane(end - 1))});
  }
  return sectors;
}

/// An edge that a sector offers.
struct Offered {
  size_t sector = 0;
  Point2 at;
  double contrast = 0;
};

std::vector<std::vector<double>> profiles_of(const PreparedPicture& prepared, const Scan& fan,
                                             const std::vector<Sector>& sectors) {
  std::vector<std::vector<double>> profiles;
  LaneReader reader(prepared.level(0), fan);
  for (const Sector& s : sectors) profiles.push_back(reader.mean_of(s.first, s.end));
  return profiles;
}

std::vector<Offered> offered_by(const PreparedPicture& prepared, const Scan& fan,
                                const std::vector<Sector>& sectors, const EdgeSettings& s) {
  std::vector<Offered> all;
  const std::vector<std::vector<double>> profiles = profiles_of(prepared, fan, sectors);
  std::vector<ProfileSearch> searches;
  for (size_t i = 0; i < sectors.size(); ++i) {
    const int lanes = sectors[i].end - sectors[i].first;
    searches.push_back({&profiles[i], false, edge_threshold(s, prepared, lanes),
                        std::max(0.05, prepared.noise_sigma(0) / std::sqrt(static_cast<double>(lanes)))});
  }
  std::vector<std::vector<ScanEdge>> met = edges_along(searches);
  for (size_t i = 0; i < sectors.size(); ++i) {
    std::erase_if(met[i], [&](const ScanEdge& e) { return !is_meant(e, s.change); });
    for (const ScanEdge& e : ordered(std::move(met[i]), s.order, 1))
      all.push_back({i, fan.at(e.at, sectors[i].across), e.contrast});
  }
  return all;
}

/// Scans from the fan's centre outwards meet a circle once, where they leave it: one beside the centre is
/// another thing.
bool surrounds(const Circle& circle, Point2 centre) {
  return distance(circle.centre, centre) < circle.radius;
}

/// The circle about the fan's centre that most sectors agree with.
std::optional<Circle> agreed(const std::vector<Offered>& offered, const Scan& fan, size_t sectors) {
  const size_t n = offered.size();
  std::optional<Circle> best;
  double most = 2.5;
  SampleRandom draw;
  const auto pick = [&]() -> const Offered& { return offered[draw.below(n)]; };
  for (int round = 0; n >= 3 && round < 400; ++round) {
    const Offered &a = pick(), &b = pick(), &c = pick();
    if (a.sector == b.sector || b.sector == c.sector || a.sector == c.sector) continue;
    const auto circle = circle_through(a.at, b.at, c.at);
    if (!circle || !surrounds(*circle, fan.centre()) || circle->radius > 2 * fan.outer()) continue;
    std::vector<double> agree(sectors, 0);
    double sum = 0;
    for (const Offered& o : offered) {
      const Point2 out = o.at - circle->centre;
      const double t = (std::sqrt(dot(out, out)) - circle->radius) / agree_within;
      double& there = agree[o.sector];
      if (std::abs(t) < 1 && 1 - t * t > there) sum += 1 - t * t - there, there = 1 - t * t;
    }
    if (sum > most) most = sum, best = circle;
    if (most > 0.9 * static_cast<double>(sectors)) break;  // nearly all agree: no other can do better
  }
  return best;
}

/// The circle through the edges that agree with it, robustly.
Circle settled(Circle circle, const std::vector<Offered>& offered) {
  std::vector<FitRow<3>> rows;
  for (const Offered& o : offered) {
    const Point2 out = o.at - circle.centre;
    const double far = norm(out);
    if (std::abs(far - circle.radius) < 2 * agree_within)
      rows.push_back({{out.x / far, out.y / far, 1}, far - circle.radius});
  }
  const auto fit =
      fit_robustly<3>(rows, {0, 0, 0}, {.least = 0.1, .first = 2 * agree_within, .sigmas_known = false});
  if (!fit.determined || fit.unknowns.norm() > 2 * agree_within) return circle;
  return {circle.centre + Point2{fit.unknowns[0], fit.unknowns[1]}, circle.radius + fit.unknowns[2]};
}

/// What the sectors of a fan about the circle itself meet near it.
struct CircleRows {
  std::vector<FitRow<3>> rows;
  std::vector<size_t> sectors;  ///< of each row
  std::vector<double> contrasts;
  std::vector<RayEdge> met;
  size_t count = 0;  ///< of all sectors
};

/// The sectors of `own` whose ends are in the picture and whose middle lies in the fan.
std::vector<Sector> sectors_within(const PreparedPicture& prepared, const Scan& fan, const Scan& own) {
  std::vector<Sector> sectors = sectors_of(own);
  const auto view = prepared.level(0).view();
  const auto holds = [&](Point2 p) { return view.holds(static_cast<int>(p.x), static_cast<int>(p.y)); };
  std::erase_if(sectors, [&](const Sector& s) {
    const Point2 out = own.lane_direction(s.across), middle = own.centre() + out * own.radius();
    const double from_centre = distance(middle, fan.centre());
    return !holds(middle - out * (0.5 * own.length())) || !holds(middle + out * (0.5 * own.length())) ||
           from_centre < fan.outer() - fan.length() - 1 || from_centre > fan.outer() + 1;
  });
  return sectors;
}

/// About its own centre each sector meets a straight edge. Nothing where the circle is too small.
CircleRows rows_near(const PreparedPicture& prepared, const Scan& fan, const Circle& circle, bool rising,
                     const EdgeSettings& s) {
  CircleRows result;
  const double half = std::min(settle_reach + 1, circle.radius - 1);
  if (half < 3) return result;
  const Scan own = fan.about(circle.centre, circle.radius - half, circle.radius + half);
  const std::vector<Sector> sectors = sectors_within(prepared, fan, own);
  const std::vector<std::vector<double>> profiles = profiles_of(prepared, own, sectors);
  result.count = sectors_of(own).size();
  std::vector<StepSearch> searches;
  for (size_t i = 0; i < sectors.size(); ++i) {
    const int lanes = sectors[i].end - sectors[i].first;
    searches.push_back({.profile = &profiles[i],
                        .start = half,
                        .reach = settle_reach,
                        .noise = std::max(prepared.noise_sigma(0), 0.3) / std::sqrt(lanes),
                        .least = 0.5 * edge_threshold(s, prepared, lanes)});
  }
  const auto fitted = fit_steps(searches);
  for (size_t i = 0; i < sectors.size(); ++i) {
    const auto& step = fitted[i];
    if (!step || (step->contrast > 0) != rising || std::abs(step->contrast) < searches[i].least ||
        step->blur > softest_edge)
      continue;
    const Point2 u = own.lane_direction(sectors[i].across);
    // Blur pulls a curved edge towards its centre.
    const double pulled = step->blur * step->blur / (2 * circle.radius);
    result.rows.push_back({{u.x, u.y, 1}, step->at - half + pulled, std::max(step->sigma, 0.003)});
    result.sectors.push_back(sectors[i].index), result.contrasts.push_back(step->contrast);
    result.met.push_back(
        {circle.centre + u * (circle.radius - half + step->at + pulled), result.rows.back().sigma});
  }
  return result;
}

}  // namespace

CircleFit circle_by_scans(const PreparedPicture& prepared, const Scan& fan, const EdgeSettings& s) {
  CircleFit fit;
  const std::vector<Sector> sectors = sectors_of(fan);
  const std::vector<Offered> offered = offered_by(prepared, fan, sectors, s);
  const auto start = agreed(offered, fan, sectors.size());
  if (!start) return fit;
  Circle circle = settled(*start, offered);
  double rising = 0;
  for (const Offered& o : offered)
    if (std::abs(distance(o.at, circle.centre) - circle.radius) < agree_within) rising += o.contrast;
  for (int round = 0; round < 3; ++round) {
    const CircleRows near = rows_near(prepared, fan, circle, rising > 0, s);
    if (near.rows.size() < 4) return fit;
    const auto robust =
        fit_robustly<3>(near.rows, {0, 0, 0}, {.least = 0.05, .first = round ? 1.0 : 3.0, .rounds = 8});
    if (!robust.determined) return fit;
    circle.centre += {robust.unknowns[0], robust.unknowns[1]}, circle.radius += robust.unknowns[2];
    fit.covariance = robust.covariance;
    fit.sectors.assign(near.count, false), fit.met = near.met;
    double squares = 0;
    std::vector<double> on;
    for (size_t i = 0; i < near.rows.size(); ++i) {
      const double off = near.rows[i].value - near.rows[i].terms.dot(robust.unknowns);
      if (std::abs(off) > std::clamp(4 * near.rows[i].sigma, 0.5, 1.0)) continue;
      fit.sectors[near.sectors[i]] = true, squares += off * off, on.push_back(near.contrasts[i]);
      fit.met[i].on_circle = true;
    }
    if (on.size() < 4) return fit;
    fit.seen = static_cast<double>(on.size()) / static_cast<double>(near.count);
    fit.scatter = std::sqrt(squares / static_cast<double>(on.size()));
    fit.contrast = std::copysign(median_size(on), rising);
    if (robust.unknowns.norm() < at_rest) break;
  }
  fit.centre = circle.centre, fit.radius = circle.radius;
  fit.determined = surrounds(circle, fan.centre());
  return fit;
}

}  // namespace heron
