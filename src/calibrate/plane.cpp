#include "heron/calibrate/plane.hpp"

#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>

#include "heron/base/error.hpp"
#include "heron/base/median.hpp"
#include "homography_fit.hpp"

namespace heron {
namespace {

/// A cubic radial term explains part of the residuals when the lens bends lines; its size at the corner.
double cubic_residual(const std::vector<MappedPoint>& points, int width, int height) {
  const Point2 centre{0.5 * (width - 1), 0.5 * (height - 1)};
  const double corner = norm(centre);
  double along = 0, weight = 0;
  for (const MappedPoint& p : points) {
    const Point2 d = (p.pixel - centre) / corner;
    const double r = norm(d), cubic = r * r * r - 0.6 * r;  // what a scale cannot take up
    if (r > 0) along += cubic * dot(p.residual_px, d / r), weight += cubic * cubic;
  }
  return weight > 0 ? std::abs(along / weight) : 0;
}

}  // namespace

PlaneCalibration calibrate_plane(const std::vector<BoardPoint>& points, const BoardShape& shape,
                                 double dot_radius_px, int width, int height) {
  shape.require_valid();
  if (points.size() < 9)
    throw Error(
        ErrorCode::not_determined,
        fmt::format("calibrate: {} points; a plane mapping needs at least 9, spread over the work area",
                    points.size()));
  std::vector<Point2> world, pixel;
  for (const BoardPoint& p : points) world.push_back(shape.point(p.column, p.row)), pixel.push_back(p.pixel);
  const auto start = homography_from_points(world, pixel);
  if (!start)
    throw Error(ErrorCode::not_determined,
                "calibrate: the points lie on one line or are not finite; a plane needs two directions");

  double radius_mm = 0;
  if (dot_radius_px > 0) {
    std::vector<double> scales;
    for (Point2 w : world) scales.push_back(std::sqrt(std::abs(jacobian(*start, w).determinant())));
    radius_mm = dot_radius_px / median(scales);
  }
  const auto seen_at = [&](const Homography& h, Point2 w) {
    return radius_mm > 0 ? projected_circle_centre(h, w, radius_mm) : apply(h, w);
  };
  const HomographyFit fitted = fit_homography(*start, world, pixel, seen_at);
  const LeastSquaresFit& fit = fitted.fit;
  if (!fit.determined)
    throw Error(ErrorCode::not_determined,
                "calibrate: the points do not fix the mapping; spread them over the work area");

  PlaneCalibration result;
  const Homography& h = fitted.pixel_from_world;
  result.mapping = PlaneMapping(h, fit.unit_covariance * fit.sigma * fit.sigma);
  result.rms_px = fit.rms * std::sqrt(2.0);
  result.sigma_px = fit.sigma;
  for (size_t i = 0; i < world.size(); ++i) {
    result.points.push_back({pixel[i], WorldPoint(world[i]), pixel[i] - seen_at(h, world[i])});
    result.largest_mm = std::max(
        result.largest_mm, norm(result.points.back().residual_px) * result.mapping.mm_per_pixel(pixel[i]));
  }
  result.distortion_px = cubic_residual(result.points, width, height);
  return result;
}

}  // namespace heron
