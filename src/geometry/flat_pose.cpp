#include "heron/geometry/flat_pose.hpp"

#include "geometry/linear.hpp"
#include "heron/geometry/homography.hpp"

namespace heron {
namespace {

using Vector6 = Eigen::Matrix<double, 6, 1>;
using Matrix6 = Eigen::Matrix<double, 6, 6>;

/// What a pose leaves of the pixels, with the normal equations of a small turn and shift.
struct Judged {
  Matrix6 normal = Matrix6::Zero();
  Vector6 right = Vector6::Zero();
  double squares = 0;
};

std::optional<Judged> judged(const Lens& lens, const Pose3& pose, const std::vector<Point2>& part_mm,
                             const std::vector<Point2>& pixels) {
  Judged j;
  for (size_t i = 0; i < pixels.size(); ++i) {
    const Eigen::Vector3d turned = pose.rotation * Eigen::Vector3d(part_mm[i].x, part_mm[i].y, 0),
                          at = turned + pose.position;
    if (!(at.z() > 1e-9)) return std::nullopt;
    ProjectionDerivative d;
    const Point2 off = pixels[i] - project(lens, at, &d);
    Eigen::Matrix3d by_turn;
    by_turn << 0, turned.z(), -turned.y(), -turned.z(), 0, turned.x(), turned.y(), -turned.x(), 0;
    Eigen::Matrix<double, 2, 6> row;
    row << d.by_point * by_turn, d.by_point;
    const Eigen::Vector2d residual(off.x, off.y);
    j.normal += row.transpose() * row, j.right += row.transpose() * residual;
    j.squares += residual.squaredNorm();
  }
  return j;
}

struct Settled {
  Pose3 pose;
  Judged judged;
};

std::optional<Settled> settled(const Lens& lens, Pose3 pose, const std::vector<Point2>& part_mm,
                               const std::vector<Point2>& pixels) {
  auto here = judged(lens, pose, part_mm, pixels);
  if (!here) return std::nullopt;
  double damping = 1e-4;
  for (int round = 0; round < 60 && damping < 1e8; ++round) {
    Matrix6 damped = here->normal;
    damped.diagonal() *= 1 + damping;
    const Vector6 step = solve_symmetric(damped, here->right);
    const Pose3 next{(turn_of(step.head<3>()) * pose.rotation).normalized(), pose.position + step.tail<3>()};
    const auto there = judged(lens, next, part_mm, pixels);
    if (there && there->squares <= here->squares) {
      const bool done = here->squares - there->squares < 1e-12 * (1 + here->squares) && round > 2;
      pose = next, here = there, damping = std::max(1e-12, damping * 0.2);
      if (done) break;
    } else {
      damping *= 8;
    }
  }
  return Settled{pose, *here};
}

}  // namespace

std::optional<FlatPose> flat_pose(const Lens& lens, const std::vector<Point2>& part_mm,
                                  const std::vector<Point2>& pixels, double sigma_px) {
  std::vector<Point2> rays;
  for (const Point2& p : pixels) {
    const auto ray = ray_of(lens, p);
    if (!ray) return std::nullopt;
    rays.push_back({ray->x(), ray->y()});
  }
  const auto h = homography_from_points(part_mm, rays);
  if (!h) return std::nullopt;
  Eigen::Matrix3d m = *h;
  m /= 0.5 * (m.col(0).norm() + m.col(1).norm());
  if (m(2, 2) < 0) m = -m;  // in front of the camera
  Eigen::Matrix3d axes;
  axes << m.col(0), m.col(1), m.col(0).cross(m.col(1));
  const Pose3 first{Eigen::Quaterniond(nearest_rotation(axes)), m.col(2)};
  // The same tilt the other way about the line of sight.
  const Eigen::Vector3d sight = first.position.normalized(),
                        normal = first.rotation * Eigen::Vector3d::UnitZ(),
                        other = 2 * normal.dot(sight) * sight - normal;
  const Pose3 second{Eigen::Quaterniond::FromTwoVectors(normal, other) * first.rotation, first.position};
  const auto a = settled(lens, first, part_mm, pixels), b = settled(lens, second, part_mm, pixels);
  if (!a && !b) return std::nullopt;
  const bool take_a = a && (!b || a->judged.squares <= b->judged.squares);
  const Settled& best = take_a ? *a : *b;
  const auto inverse = inverse_symmetric(best.judged.normal);
  if (!inverse) return std::nullopt;
  const double count = 2.0 * static_cast<double>(pixels.size());
  FlatPose pose{.camera_from_part = best.pose, .covariance = *inverse * sigma_px * sigma_px};
  pose.rms_px = std::sqrt(best.judged.squares / count);
  const auto& left = take_a ? b : a;
  pose.other_px = left ? std::sqrt(left->judged.squares / count) : std::numeric_limits<double>::infinity();
  return pose;
}

}  // namespace heron
