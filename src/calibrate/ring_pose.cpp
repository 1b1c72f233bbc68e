#include "heron/calibrate/ring_pose.hpp"

#include <fmt/format.h>

#include <Eigen/LU>

#include <array>
#include <optional>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

using Vector6 = Eigen::Matrix<double, 6, 1>;
constexpr std::array<Point2, 4> rim_places{{{1, 0}, {0, 1}, {-1, 0}, {0, -1}}};

struct Projected {
  RimVector rim;
  Eigen::Matrix<double, 8, 6> by_pose;
  Eigen::Matrix<double, 8, 9> by_lens;
};

std::optional<Projected> project_rim(const Lens& lens, const Pose3& pose, double radius) {
  Projected p;
  for (int k = 0; k < 4; ++k) {
    const Point2 m = rim_places[static_cast<size_t>(k)] * radius;
    const Eigen::Vector3d turned = pose.rotation * Eigen::Vector3d(m.x, m.y, 0), at = turned + pose.position;
    if (!(at.z() > 0)) return std::nullopt;
    ProjectionDerivative d;
    const Point2 pixel = project(lens, at, &d);
    p.rim.segment<2>(2 * k) << pixel.x, pixel.y;
    // A turn about the mark's centre: the shift then is the centre's own.
    Eigen::Matrix3d by_turn;
    by_turn << 0, turned.z(), -turned.y(), -turned.z(), 0, turned.x(), turned.y(), -turned.x(), 0;
    p.by_pose.block<2, 3>(2 * k, 0) = d.by_point * by_turn;
    p.by_pose.block<2, 3>(2 * k, 3) = d.by_point;
    p.by_lens.block<2, 9>(2 * k, 0) = d.by_lens;
  }
  return p;
}

/// Two poses from the ellipse alone, as a distant camera sees it.
std::array<Pose3, 2> starts(const std::array<Eigen::Vector3d, 4>& rays, const Eigen::Vector3d& centre,
                            double radius) {
  // Look straight at the mark.
  const Eigen::Vector3d towards = centre.normalized(), axis(towards.y(), -towards.x(), 0);
  const double off = axis.norm();  // the sine of the angle between ray and optical axis
  const Eigen::Quaterniond to_axis =
      off > 1e-12 ? turn_of(axis * (std::atan2(off, towards.z()) / off)) : Eigen::Quaterniond::Identity();
  std::array<Eigen::Vector2d, 4> flat;
  for (size_t k = 0; k < 4; ++k) flat[k] = (to_axis * rays[k]).hnormalized();
  Eigen::Matrix2d b;
  b << 0.5 * (flat[0] - flat[2]), 0.5 * (flat[1] - flat[3]);
  // The columns are the first two rows of the rotation's first two columns, times radius / distance: what is
  // missing below is found from their lengths and angle.
  const double aa = b.col(0).squaredNorm(), bb = b.col(1).squaredNorm(), ab = b.col(0).dot(b.col(1));
  const double half = 0.5 * (aa + bb), root = std::sqrt(std::max(0.0, half * half - (aa * bb - ab * ab)));
  const double scale = std::sqrt(half + root), depth = radius / scale;
  const double down_a = std::sqrt(std::max(0.0, 1 - aa / (scale * scale)));
  double down_b = std::sqrt(std::max(0.0, 1 - bb / (scale * scale)));
  if (ab > 0) down_b = -down_b;
  std::array<Pose3, 2> poses;
  for (int sign = 0; sign < 2; ++sign) {
    const double s = sign ? -1 : 1;
    Eigen::Matrix3d r;
    r.col(0) << b.col(0) / scale, s * down_a;
    r.col(1) << b.col(1) / scale, s * down_b;
    r.col(2) = r.col(0).cross(r.col(1));
    const Eigen::Quaterniond turn(nearest_rotation(r));
    poses[static_cast<size_t>(sign)] = {(to_axis.conjugate() * turn).normalized(),
                                        centre.normalized() * depth};
  }
  return poses;
}

}  // namespace

RimVector rim_of(const RingSeen& seen, RimCovariance& covariance, const Lens* lens) {
  RimVector rim;
  RimCovariance by;
  for (int k = 0; k < 4; ++k) {
    const Point2 m = rim_places[static_cast<size_t>(k)], p = apply(seen.pixel_from_mark, m);
    rim.segment<2>(2 * k) << p.x, p.y;
    by.block<2, 8>(2 * k, 0) = derivative_by_elements(seen.pixel_from_mark, m);
  }
  covariance = product(product(by, seen.covariance), by.transpose());
  if (!lens) return rim;
  // What a homography leaves of the true projection is no homography itself: undistorted, its fit finds the
  // true one again. Points where the mark has edges.
  std::vector<Point2> mark, straight;
  for (const auto& [radius, count] :
       {std::pair{1.0, 16}, {RingShape::ring_inside, 8}, {RingShape::teeth_inside, 8}})
    for (int k = 0; k < count; ++k) {
      mark.push_back(unit(degrees(360.0 * k / count)) * radius);
      const Point2 p = apply(seen.pixel_from_mark, mark.back());
      const auto ray = ray_of(*lens, p);
      if (!ray) return rim;
      straight.push_back({ray->x(), ray->y()});
    }
  const auto h = homography_from_points(mark, straight);
  if (!h) return rim;
  for (int k = 0; k < 4; ++k) {
    const Point2 ray = apply(*h, rim_places[static_cast<size_t>(k)]), p = project(*lens, {ray.x, ray.y, 1});
    rim.segment<2>(2 * k) << p.x, p.y;
  }
  return rim;
}

std::vector<RingPose> ring_poses(const RingSeen& seen, const CameraMapping& mapping, double diameter_mm) {
  if (!(diameter_mm > 0))
    fail_argument(fmt::format("ring mark: a diameter of {:g} mm; it must be above 0", diameter_mm));
  const Lens& lens = mapping.camera().lens;
  RimCovariance covariance;
  const RimVector rim = rim_of(seen, covariance, &lens);
  std::array<Eigen::Vector3d, 4> rays;
  const auto ray = [&](double x, double y) {
    const auto r = ray_of(lens, {x, y});
    if (!r) throw Error(ErrorCode::not_determined, "ring mark: the lens has no ray for its rim");
    return *r;
  };
  for (int k = 0; k < 4; ++k) rays[static_cast<size_t>(k)] = ray(rim[2 * k], rim[2 * k + 1]);
  const Eigen::MatrixXd white = whitener(covariance);
  const double radius = 0.5 * diameter_mm;

  std::vector<RingPose> poses;
  for (Pose3 pose : starts(rays, ray(seen.centre.x, seen.centre.y), radius)) {
    double damping = 1e-3, left = std::numeric_limits<double>::infinity();
    Vector6 step = Vector6::Zero();
    const auto judged = [&](const Pose3& at) -> std::optional<std::pair<Projected, RimVector>> {
      const auto p = project_rim(lens, at, radius);
      if (!p) return std::nullopt;
      return std::pair{*p, RimVector(product(white, rim - p->rim))};
    };
    auto here = judged(pose);
    if (!here) continue;
    left = here->second.squaredNorm();
    for (int round = 0; round < 100; ++round) {
      const Eigen::Matrix<double, 8, 6> j = product(white, here->first.by_pose);
      Eigen::Matrix<double, 6, 6> damped = product(j.transpose(), j);
      damped.diagonal() *= 1 + damping;
      step = solve_symmetric(damped, product(j.transpose(), here->second));
      const Pose3 next{(turn_of(step.head<3>()) * pose.rotation).normalized(),
                       pose.position + step.tail<3>()};
      auto there = judged(next);
      const double left_there = there ? there->second.squaredNorm() : left + 1;
      if (left_there <= left) {
        const bool settled = left - left_there < 1e-9 * (1 + left) && round > 3;
        pose = next, here = std::move(there), left = left_there;
        damping = std::max(1e-9, damping * 0.2);
        if (settled) break;
      } else {
        damping *= 8;
        if (damping > 1e9) break;
      }
    }
    const Eigen::Matrix<double, 8, 6> j = product(white, here->first.by_pose);
    const auto inverse = inverse_symmetric(product(j.transpose(), j));
    if (!inverse) continue;
    RingPose r;
    r.camera_from_ring = pose;
    const Eigen::Matrix<double, 6, 9> by_lens =
        -product(*inverse, product(j.transpose(), product(white, here->first.by_lens)));
    r.covariance =
        *inverse + product(product(by_lens, mapping.covariance().topLeftCorner<9, 9>()), by_lens.transpose());
    r.tilt = radians(std::acos(
        std::min(1.0, std::abs((pose.rotation * Eigen::Vector3d::UnitZ()).dot(pose.position.normalized())))));
    r.chi_square = left;
    poses.push_back(r);
  }
  if (poses.empty()) throw Error(ErrorCode::not_determined, "ring mark: no pose explains how it is seen");
  if (poses.size() == 2) {
    if (poses[1].chi_square < poses[0].chi_square) std::swap(poses[0], poses[1]);
    const double apart =
        poses[0].camera_from_ring.rotation.angularDistance(poses[1].camera_from_ring.rotation);
    if (apart < 1e-4 || poses[1].chi_square > poses[0].chi_square + 12) poses.pop_back();
  }
  return poses;
}

}  // namespace heron
