#include "heron/geometry/homography.hpp"

#include <Eigen/LU>
#include <algorithm>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

/// Moves the centroid to zero and the mean distance from it to sqrt(2).
Homography normaliser(const std::vector<Point2>& points) {
  Point2 mean;
  for (Point2 p : points) mean += p;
  mean = mean / static_cast<double>(points.size());
  double spread = 0;
  for (Point2 p : points) spread += distance(p, mean);
  spread /= static_cast<double>(points.size());
  const double s = spread > 0 ? std::sqrt(2.0) / spread : 1.0;
  Homography n;
  n << s, 0, -s * mean.x, 0, s, -s * mean.y, 0, 0, 1;
  return n;
}

}  // namespace

Point2 apply(const Homography& h, Point2 p) {
  const Eigen::Vector3d q = h * Eigen::Vector3d(p.x, p.y, 1);
  const double size = std::abs(h(2, 0) * p.x) + std::abs(h(2, 1) * p.y) + std::abs(h(2, 2));
  if (!(std::abs(q.z()) > 1e-12 * size))
    throw Error(ErrorCode::not_determined,
                "the point lies on the horizon of the plane; it has no place there");
  return {q.x() / q.z(), q.y() / q.z()};
}

Eigen::Matrix2d jacobian(const Homography& h, Point2 p) {
  const Eigen::Vector3d q = h * Eigen::Vector3d(p.x, p.y, 1);
  const Point2 d = apply(h, p);
  Eigen::Matrix2d j;
  for (int k = 0; k < 2; ++k) {
    j(0, k) = (h(0, k) - d.x * h(2, k)) / q.z();
    j(1, k) = (h(1, k) - d.y * h(2, k)) / q.z();
  }
  return j;
}

Eigen::Matrix<double, 2, 8> derivative_by_elements(const Homography& h, Point2 at) {
  const double w = h(2, 0) * at.x + h(2, 1) * at.y + h(2, 2);
  const Point2 p = apply(h, at);
  Eigen::Matrix<double, 2, 8> j;
  j << at.x, at.y, 1, 0, 0, 0, -p.x * at.x, -p.x * at.y,  //
      0, 0, 0, at.x, at.y, 1, -p.y * at.x, -p.y * at.y;
  return j / w;
}

Eigen::Matrix<double, 8, 1> elements_of(const Homography& h) {
  Eigen::Matrix<double, 8, 1> e;
  e << h(0, 0), h(0, 1), h(0, 2), h(1, 0), h(1, 1), h(1, 2), h(2, 0), h(2, 1);
  return e;
}

Homography homography_of(const Eigen::Matrix<double, 8, 1>& e) {
  Homography h;
  h << e[0], e[1], e[2], e[3], e[4], e[5], e[6], e[7], 1;
  return h;
}

std::optional<Homography> homography_from_points(const std::vector<Point2>& source,
                                                 const std::vector<Point2>& target) {
  const size_t n = source.size();
  if (n < 4 || target.size() != n) return std::nullopt;
  const auto finite = [](Point2 p) { return is_finite(p); };
  if (!std::all_of(source.begin(), source.end(), finite) ||
      !std::all_of(target.begin(), target.end(), finite))
    return std::nullopt;
  const Homography ns = normaliser(source), nt = normaliser(target);
  Eigen::Matrix<double, 9, 9> normal = Eigen::Matrix<double, 9, 9>::Zero();
  for (size_t i = 0; i < n; ++i) {
    const Point2 s = apply(ns, source[i]), t = apply(nt, target[i]);
    Eigen::Matrix<double, 9, 1> a, b;
    a << s.x, s.y, 1, 0, 0, 0, -t.x * s.x, -t.x * s.y, -t.x;
    b << 0, 0, 0, s.x, s.y, 1, -t.y * s.x, -t.y * s.y, -t.y;
    normal += a * a.transpose() + b * b.transpose();
  }
  const SymmetricEigen eigen = eigen_symmetric(normal);
  // A second vanishing eigenvalue means a whole family of solutions.
  if (!(eigen.values[1] > 1e-10 * eigen.values[8])) return std::nullopt;
  const Eigen::VectorXd v = eigen.vectors.col(0);
  Homography h;
  h << v[0], v[1], v[2], v[3], v[4], v[5], v[6], v[7], v[8];
  h = nt.inverse() * h * ns;
  if (!h.allFinite() || std::abs(h.determinant()) < 1e-300) return std::nullopt;
  return h / (std::abs(h(2, 2)) > 1e-12 * h.norm() ? h(2, 2) : h.norm());
}

Point2 projected_circle_centre(const Homography& h, Point2 centre, double radius) {
  // The dual conic of the circle maps by h C* h'; its last column is the centre.
  Eigen::Matrix3d dual;
  const double cx = centre.x, cy = centre.y, rr = radius * radius;
  dual << cx * cx - rr, cx * cy, cx, cx * cy, cy * cy - rr, cy, cx, cy, 1;
  const Eigen::Vector3d c = h * dual * h.transpose().col(2);
  return {c.x() / c.z(), c.y() / c.z()};
}

}  // namespace heron
