#pragma once
#include <Eigen/Core>
#include <optional>
#include <vector>

#include "heron/base/point.hpp"

namespace heron {

/// A projective mapping of the plane, named destination_from_source.
using Homography = Eigen::Matrix3d;

/// Throws Error{not_determined} when `p` lies on the horizon of `h`.
Point2 apply(const Homography& h, Point2 p);

/// Derivative of `apply` at `p`, destination by source.
Eigen::Matrix2d jacobian(const Homography& h, Point2 p);

/// Derivative of `apply` at `p` by the first eight elements of `h`, row by row.
Eigen::Matrix<double, 2, 8> derivative_by_elements(const Homography& h, Point2 p);

/// The first eight elements of a homography whose last is 1, row by row, and back.
Eigen::Matrix<double, 8, 1> elements_of(const Homography& h);
Homography homography_of(const Eigen::Matrix<double, 8, 1>& elements);

/// The homography that takes each source[i] to target[i], by the direct linear transform with normalised
/// coordinates (Hartley, In defence of the 8-point algorithm, 1997). Algebraic error: a start, not an end.
/// Nothing when fewer than four points are given or they do not fix it (three on one line).
std::optional<Homography> homography_from_points(const std::vector<Point2>& source,
                                                 const std::vector<Point2>& target);

/// Where the centre of the picture of a circle lies: not where its centre is projected, once the view is
/// oblique. Centre of the conic h(circle); see Heikkila, Geometric camera calibration using circular control
/// points, PAMI 22, 2000.
Point2 projected_circle_centre(const Homography& h, Point2 centre, double radius);

}  // namespace heron
