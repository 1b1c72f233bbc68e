#include "measuring_plane.hpp"

#include <cmath>

namespace heron {

Point2 MeasuringPlane::at(Point2 pixel) const {
  return mapping_ ? mapping_->world_from_pixel(pixel, height_mm_).plain() : pixel;
}

Point2 MeasuringPlane::pixel(Point2 at) const {
  return mapping_ ? mapping_->pixel_from_world(WorldPoint(at), height_mm_) : at;
}

Eigen::Matrix2d MeasuringPlane::jacobian(Point2 pixel) const {
  if (!mapping_) return Eigen::Matrix2d::Identity();
  const Point2 x = at(pixel + Point2{0.5, 0}) - at(pixel - Point2{0.5, 0}),
               y = at(pixel + Point2{0, 0.5}) - at(pixel - Point2{0, 0.5});
  Eigen::Matrix2d j;
  j << x.x, y.x, x.y, y.y;
  return j;
}

double MeasuringPlane::scale(Point2 pixel) const {
  return mapping_ ? std::sqrt(std::abs(jacobian(pixel).determinant())) : 1;
}

Point2 MeasuringPlane::as_counted(Point2 at) const {
  if (!mapping_) return at;
  return user_pose({at.x, at.y, 0, {}, {}}, axes_).position().plain();
}

MeasuredPoint MeasuringPlane::point(Point2 pixel, const Eigen::Matrix2d& covariance) const {
  const Eigen::Matrix2d j = jacobian(pixel);
  return {at(pixel), j * covariance * j.transpose()};
}

MeasuredLine MeasuringPlane::line(const Scan& scan, const LineEdge& edge) const {
  const double half = 0.5 * scan.width();
  const auto place = [&](double across) { return at(scan.at(edge.edge.at + edge.slope * across, across)); };
  const Point2 middle = scan.at(edge.edge.at, 0), first = place(-half), last = place(half);
  MeasuredLine line{.at = at(middle)};
  line.half_length = 0.5 * distance(first, last);
  line.along = line.half_length > 0 ? (last - first) / (2 * line.half_length) : Point2{1, 0};
  const Point2 u = scan.direction(0), step = at(middle + u * 0.5) - at(middle - u * 0.5);
  line.normal = {-line.along.y, line.along.x};
  if (dot(line.normal, step) < 0) line.normal = -line.normal;
  // A pixel along the scan moves the line by so much along its normal; a pixel across the scan is so long
  // along it.
  const double across_line = dot(line.normal, step), along_line = line.half_length / std::max(half, 1e-9);
  line.sigma = edge.edge.sigma * across_line;
  line.turn_sigma = edge.slope_sigma * across_line / along_line;
  line.shared = edge.shared * across_line * across_line / along_line;
  return line;
}

}  // namespace heron
