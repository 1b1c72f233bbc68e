#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "locate/edge/scan_circle.hpp"
#include "measured.hpp"

namespace heron {
namespace {

/// The circle through points of the plane, started from the picture's.
struct PlaneCircle {
  MeasuredCircle circle;
  double peak_to_valley = 0, peak_sigma = 0, rms = 0;  // of all that was met: a dent is what is asked for
  bool determined = false;
};

PlaneCircle circle_on_plane(const CircleFit& seen, const MeasuringPlane& plane) {
  PlaneCircle fit;
  std::vector<Point2> places;
  std::vector<double> sigmas;
  for (const RayEdge& edge : seen.met) {
    places.push_back(plane.at(edge.at));
    sigmas.push_back(edge.sigma * plane.scale(edge.at));
  }
  const double scale = plane.scale(seen.centre);
  Point2 centre = plane.at(seen.centre);
  double radius = seen.radius * scale;
  std::vector<FitRow<3>> rows(places.size());
  for (int round = 0; round < 3; ++round) {
    for (size_t i = 0; i < places.size(); ++i) {
      const Point2 out = places[i] - centre;
      const double far = std::max(norm(out), 1e-12);
      rows[i] = {{out.x / far, out.y / far, 1}, far - radius, sigmas[i]};
    }
    const auto robust = fit_robustly<3>(rows, {0, 0, 0}, {.least = 0.3 * scale, .rounds = 8});
    if (!robust.determined) return fit;
    centre += {robust.unknowns[0], robust.unknowns[1]}, radius += robust.unknowns[2];
    fit.circle = {centre, radius, robust.covariance};
    if (robust.unknowns.norm() < 0.01 * scale) break;  // what is left of the bend is far below a sigma
  }
  double least = 1e300, most = -1e300, of_least = 0, of_most = 0, squares = 0;
  for (size_t i = 0; i < places.size(); ++i) {
    const double off = distance(places[i], centre) - radius;
    if (off < least) least = off, of_least = sigmas[i];
    if (off > most) most = off, of_most = sigmas[i];
    squares += off * off;
  }
  fit.peak_to_valley = most - least, fit.peak_sigma = std::hypot(of_least, of_most);
  fit.rms = std::sqrt(squares / static_cast<double>(places.size()));
  fit.determined = true;
  return fit;
}

}  // namespace

Measured measured(const CircleGauge& gauge, const GaugeScene& scene) {
  Measured result;
  const std::vector<double> ring = scene.placement.ring(gauge.ring);
  if (!(ring[2] >= 2 && ring[3] - ring[2] >= 6))
    return result.fails(
        Verdict::not_measured,
        fmt::format("its ring from {:.1f} to {:.1f} pixels is too small here; it must begin at 2 or beyond "
                    "and be 6 wide",
                    ring[2], ring[3]));
  const Scan fan = Scan::fan(ring);
  result.at = fan.centre();
  result.contours.push_back({.points = fan.border(), .closed = true, .seen = false});
  if (scene.outside == OutsidePicture::refuse && !fan.inside(scene.prepared.width(), scene.prepared.height()))
    return result.fails(Verdict::not_measured, partly_outside_words);
  const CircleFit seen =
      circle_by_scans(scene.prepared, fan, edge_settings(gauge.change, gauge.order, gauge.threshold));
  if (!seen.determined)
    return result.fails(Verdict::not_found, "no circle that four sectors of the ring agree on");
  const PlaneCircle fit = circle_on_plane(seen, scene.plane);
  if (!fit.determined) return result.fails(Verdict::not_found, "what was seen does not fix a circle");
  const MeasuredCircle& circle = fit.circle;
  const char* unit = scene.plane.length_unit();
  const Uncertain diameter{2 * circle.radius, 2 * std::sqrt(circle.covariance(2, 2))},
      roundness{fit.peak_to_valley, fit.peak_sigma};
  if (gauge.reads == CircleReading::roundness)
    result.reads("roundness", roundness, unit);
  else
    result.reads("diameter", diameter, unit);
  const Point2 counted = scene.plane.as_counted(circle.centre);
  const auto outliers =
      std::count_if(seen.met.begin(), seen.met.end(), [](const RayEdge& e) { return !e.on_circle; });
  result.values = {{"diameter", diameter.value, diameter.sigma, unit},
                   {"roundness", roundness.value, roundness.sigma, unit},
                   {"rms", fit.rms, {}, unit},
                   {"outliers", static_cast<double>(outliers), {}, ""},
                   {"x", counted.x, std::sqrt(circle.covariance(0, 0)), unit},
                   {"y", counted.y, std::sqrt(circle.covariance(1, 1)), unit},
                   {"contrast", seen.contrast, {}, ""},
                   {"seen", 100 * seen.seen, {}, "%"}};
  result.feature = circle;
  result.at = seen.centre;
  Contour rim{.points = {}, .closed = seen.seen > 0.99};
  for (const RayEdge& edge : seen.met)
    rim.points.push_back(edge.at), result.items.push_back({edge.at, 0, edge.on_circle});
  for (size_t i = 0; i < seen.met.size(); ++i)
    result.items[i].value = distance(scene.plane.at(seen.met[i].at), circle.centre) - circle.radius;
  result.contours.push_back(std::move(rim));
  return result;
}

}  // namespace heron
