#include "scan_circle.hpp"

#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "locate/common/consensus.hpp"

namespace heron {
namespace {

constexpr double agree_within = 1.5;  // pixels, of sectors that were not yet settled
constexpr double settle_reach = 5;    // pixels either side of a circle that is nearly known
constexpr double softest = 2.5;       // sigma of the blur, pixels: softer changes are shading, not edges

/// A sector of a fan: its lanes.
struct Sector {
  int first = 0, end = 0;
  double across = 0;  ///< of its middle
};

std::vector<Sector> sectors_of(const Scan& fan) {
  const int lanes = fan.lanes(), count = std::clamp(lanes / 6, std::min(8, lanes), 120);
  std::vector<Sector> sectors;
  for (int i = 0; i < count; ++i) {
    Sector s{i * lanes / count, (i + 1) * lanes / count};
    s.across = 0.5 * (fan.lane(s.first) + fan.lane(s.end - 1));
    sectors.push_back(s);
  }
  return sectors;
}

/// An edge that a sector offers.
struct Offered {
  int sector = 0;
  Point2 at;
  double contrast = 0;
};

std::vector<Offered> offered_by(const PreparedPicture& prepared, const Scan& fan,
                                const std::vector<Sector>& sectors, const EdgeSettings& s) {
  std::vector<Offered> all;
  for (size_t i = 0; i < sectors.size(); ++i) {
    const int lanes = sectors[i].end - sectors[i].first;
    const auto profile = profile_along(prepared.level(0), fan, sectors[i].first, sectors[i].end);
    const double noise = std::max(0.05, prepared.noise_sigma(0) / std::sqrt(static_cast<double>(lanes)));
    std::vector<ScanEdge> edges = edges_along(profile, false, edge_threshold(s, prepared, lanes), noise);
    std::erase_if(edges, [&](const ScanEdge& e) { return !is_meant(e, s.change); });
    for (const ScanEdge& e : ordered(std::move(edges), s.order, 1))
      all.push_back({static_cast<int>(i), fan.at(e.at, sectors[i].across), e.contrast});
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
      double& there = agree[static_cast<size_t>(o.sector)];
      if (std::abs(t) < 1 && 1 - t * t > there) sum += 1 - t * t - there, there = 1 - t * t;
    }
    if (sum > most) most = sum, best = circle;
    if (most > 0.9 * static_cast<double>(sectors)) break;  // nearly all agree: no other can do better
  }
  return best;
}

}  // namespace

CircleFit circle_by_scans(const PreparedPicture& prepared, const Scan& fan, const EdgeSettings& s) {
  CircleFit fit;
  const std::vector<Offered> offered = offered_by(prepared, fan, sectors_of(fan), s);
  const auto start = agreed(offered, fan, sectors_of(fan).size());
  if (!start) return fit;
  Circle circle = *start;
  double rising = 0;
  for (const Offered& o : offered)
    if (std::abs(distance(o.at, circle.centre) - circle.radius) < agree_within) rising += o.contrast;
  // About its own centre each sector meets a straight edge; three rounds bring the centre to rest.
  std::vector<FitRow<3>> rows;
  std::vector<size_t> row_sector;
  std::vector<double> contrasts;
  std::vector<RayEdge> met_at;
  size_t count = 0;
  for (int round = 0; round < 3; ++round) {
    const double half = std::min(settle_reach + 1, circle.radius - 1);
    if (half < 3) return fit;
    const Scan own = fan.about(circle.centre, circle.radius - half, circle.radius + half);
    const std::vector<Sector> sectors = sectors_of(own);
    count = sectors.size();
    rows.clear(), row_sector.clear(), contrasts.clear(), met_at.clear();
    for (size_t i = 0; i < count; ++i) {
      const Point2 from = own.at(0, sectors[i].across), to = own.at(2 * half, sectors[i].across);
      if (!prepared.level(0).view().holds(static_cast<int>(from.x), static_cast<int>(from.y)) ||
          !prepared.level(0).view().holds(static_cast<int>(to.x), static_cast<int>(to.y)))
        continue;
      const double from_centre = distance(own.at(half, sectors[i].across), fan.centre());
      if (from_centre < fan.outer() - fan.length() - 1 || from_centre > fan.outer() + 1) continue;
      const auto profile = profile_along(prepared.level(0), own, sectors[i].first, sectors[i].end);
      const int lanes = sectors[i].end - sectors[i].first;
      const double noise = std::max(prepared.noise_sigma(0), 0.3) / std::sqrt(static_cast<double>(lanes));
      const auto met = step_near(profile, false, half, settle_reach, noise);
      const double least = 0.5 * edge_threshold(s, prepared, lanes);
      if (!met || met->contrast * rising <= 0 || std::abs(met->contrast) < least || met->blur > softest)
        continue;
      const Point2 u = (to - from) / (2 * half);
      // Blur pulls a curved edge towards its centre.
      const double pulled = met->blur * met->blur / (2 * circle.radius);
      rows.push_back({{u.x, u.y, 1}, met->at - half + pulled, std::max(met->sigma, 0.003)});
      row_sector.push_back(i), contrasts.push_back(met->contrast);
      met_at.push_back({from + u * (met->at + pulled), rows.back().sigma});
    }
    if (rows.size() < 4) return fit;
    const auto robust =
        fit_robustly<3>(rows, {0, 0, 0}, {.least = 0.05, .first = round ? 1.0 : 3.0, .rounds = 8});
    if (!robust.determined) return fit;
    circle.centre += {robust.unknowns[0], robust.unknowns[1]}, circle.radius += robust.unknowns[2];
    fit.covariance = robust.covariance;
    fit.sectors.assign(count, false), fit.met = met_at;
    double squares = 0;
    std::vector<double> on;
    for (size_t i = 0; i < rows.size(); ++i) {
      const double off = rows[i].value - rows[i].terms.dot(robust.unknowns);
      if (std::abs(off) > std::clamp(4 * rows[i].sigma, 0.5, 1.0)) continue;
      fit.sectors[row_sector[i]] = true, squares += off * off, on.push_back(contrasts[i]);
      fit.met[i].on_circle = true;
    }
    if (on.size() < 4) return fit;
    fit.seen = static_cast<double>(on.size()) / static_cast<double>(count);
    fit.scatter = std::sqrt(squares / static_cast<double>(on.size()));
    fit.contrast = std::copysign(median_size(on), rising);
    if (round > 0 && robust.unknowns.norm() < 0.001) break;
  }
  fit.centre = circle.centre, fit.radius = circle.radius;
  fit.determined = surrounds(circle, fan.centre());
  return fit;
}

}  // namespace heron
