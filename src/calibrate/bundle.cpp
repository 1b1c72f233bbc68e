#include "bundle.hpp"

#include <limits>

#include "geometry/linear.hpp"

namespace heron {
namespace {

using Vector6 = Eigen::Matrix<double, 6, 1>;
using Matrix6 = Eigen::Matrix<double, 6, 6>;

/// Normal equations, apart from the noise: lens by lens, lens by pose, pose by pose.
struct Normal {
  Eigen::MatrixXd lens;                // free x free
  Eigen::VectorXd lens_right;          // free
  std::vector<Eigen::MatrixXd> mixed;  // free x 6, a view
  std::vector<Matrix6> pose;
  std::vector<Vector6> pose_right;
  double sum_of_squares = 0;
};

Pose3 moved(const Pose3& pose, const Vector6& by) {
  const Eigen::Quaterniond turn = turn_of(by.head<3>());
  return {(turn * pose.rotation).normalized(), turn * pose.position + by.tail<3>()};
}

/// Derivative of a point in camera coordinates by the pose's turn and shift.
Eigen::Matrix<double, 3, 6> point_by_pose(const Eigen::Vector3d& p) {
  Eigen::Matrix<double, 3, 6> d;
  d << 0, p.z(), -p.y(), 1, 0, 0,  //
      -p.z(), 0, p.x(), 0, 1, 0,   //
      p.y(), -p.x(), 0, 0, 0, 1;
  return d;
}

Normal normal_equations(const Bundle& b) {
  const auto free = static_cast<Eigen::Index>(b.free.size());
  Normal n;
  n.lens = Eigen::MatrixXd::Zero(free, free);
  n.lens_right = Eigen::VectorXd::Zero(free);
  for (const ObservedView& view : b.views) {
    // Lens and pose together: one symmetric block a view.
    Eigen::Matrix<double, 15, 15> block = Eigen::Matrix<double, 15, 15>::Zero();
    Eigen::Matrix<double, 15, 1> right = Eigen::Matrix<double, 15, 1>::Zero();
    for (const Observation& o : view.points) {
      if (!o.used) continue;
      const Eigen::Vector3d p = view.camera_from_board * o.board;
      ProjectionDerivative d;
      const Point2 mapped = project(b.lens, p, &d) + o.bias;
      const double r[2] = {o.pixel.x - mapped.x, o.pixel.y - mapped.y};
      const Eigen::Matrix<double, 3, 6> by_pose = point_by_pose(p);
      for (int k = 0; k < 2; ++k) {
        double j[15];
        for (int i = 0; i < 9; ++i) j[i] = d.by_lens(k, i);
        for (int i = 0; i < 6; ++i)
          j[9 + i] = d.by_point(k, 0) * by_pose(0, i) + d.by_point(k, 1) * by_pose(1, i) +
                     d.by_point(k, 2) * by_pose(2, i);
        for (int c = 0; c < 15; ++c) {
          for (int i = 0; i <= c; ++i) block(i, c) += j[i] * j[c];
          right[c] += j[c] * r[k];
        }
        n.sum_of_squares += r[k] * r[k];
      }
    }
    for (int c = 0; c < 15; ++c)
      for (int i = 0; i < c; ++i) block(c, i) = block(i, c);
    Eigen::MatrixXd mixed(free, 6);
    for (Eigen::Index i = 0; i < free; ++i) {
      const int from = b.free[static_cast<size_t>(i)];
      mixed.row(i) = block.block<1, 6>(from, 9);
      n.lens_right[i] += right[from];
      for (Eigen::Index j = 0; j < free; ++j) n.lens(i, j) += block(from, b.free[static_cast<size_t>(j)]);
    }
    n.mixed.push_back(std::move(mixed));
    n.pose.push_back(block.bottomRightCorner<6, 6>());
    n.pose_right.push_back(right.tail<6>());
  }
  return n;
}

double sum_of_squares(const Bundle& b) {
  double sum = 0;
  for (const ObservedView& view : b.views)
    for (const Observation& o : view.points) {
      if (!o.used) continue;
      if (!((view.camera_from_board * o.board).z() > 0)) return std::numeric_limits<double>::infinity();
      const Point2 r = residual_of(b.lens, view, o);
      sum += dot(r, r);
    }
  return sum;
}

/// The bundle after one damped step.
Bundle stepped(const Bundle& b, const Normal& n, double damping) {
  const auto damped = [&](Eigen::MatrixXd m) {
    m.diagonal() *= 1 + damping;
    return m;
  };
  const Eigen::Index free = n.lens.rows();
  Eigen::MatrixXd schur = damped(n.lens), right = n.lens_right;
  std::vector<Eigen::MatrixXd> solved;  // pose^-1 times what couples it to the lens, and its own right side
  for (size_t v = 0; v < b.views.size(); ++v) {
    Eigen::MatrixXd sides(6, free + 1);
    sides << n.mixed[v].transpose(), n.pose_right[v];
    solved.push_back(solve_symmetric(damped(n.pose[v]), sides));
    const Eigen::MatrixXd taken = product(n.mixed[v], solved[v]);
    schur -= taken.leftCols(free), right -= taken.rightCols(1);
  }
  const Eigen::MatrixXd step = free > 0 ? solve_symmetric(schur, right) : right;
  Bundle next = b;
  LensVector lens = vector_of(b.lens);
  for (size_t i = 0; i < b.free.size(); ++i) lens[b.free[i]] += step(static_cast<Eigen::Index>(i), 0);
  next.lens = lens_of(lens);
  for (size_t v = 0; v < b.views.size(); ++v) {
    const Eigen::MatrixXd by = solved[v].rightCols(1) - product(solved[v].leftCols(free), step);
    next.views[v].camera_from_board = moved(b.views[v].camera_from_board, by.col(0));
  }
  return next;
}

}  // namespace

Point2 residual_of(const Lens& lens, const ObservedView& view, const Observation& o) {
  return o.pixel - project(lens, view.camera_from_board * o.board) - o.bias;
}

void adjust(Bundle& b) {
  double damping = 1e-4;
  b.sum_of_squares = sum_of_squares(b);
  for (int round = 0; round < 60; ++round) {
    const Normal n = normal_equations(b);
    bool better = false;
    double gain = 0;
    for (int attempt = 0; attempt < 12 && !better; ++attempt) {
      Bundle next = stepped(b, n, damping);
      next.sum_of_squares = sum_of_squares(next);
      better = next.sum_of_squares < b.sum_of_squares;
      gain = b.sum_of_squares - next.sum_of_squares;
      if (better) b = std::move(next);
      damping = better ? std::max(damping * 0.1, 1e-12) : damping * 10;
    }
    if (!better || gain < 1e-10 * b.sum_of_squares) break;
  }
  b.residuals = 0;
  b.unknowns = static_cast<int>(b.free.size() + 6 * b.views.size());
  for (const ObservedView& view : b.views)
    for (const Observation& o : view.points) b.residuals += o.used ? 2 : 0;

  const Normal n = normal_equations(b);
  Eigen::MatrixXd schur = n.lens;
  b.determined = true;
  for (size_t v = 0; v < b.views.size(); ++v) {
    const auto inverse = inverse_symmetric(n.pose[v]);
    b.determined = b.determined && inverse;
    if (inverse) schur -= product(product(n.mixed[v], *inverse), n.mixed[v].transpose());
  }
  b.lens_covariance.setZero();
  if (b.free.empty()) return;
  const auto inverse = inverse_symmetric(schur);
  b.determined = b.determined && inverse;
  if (!inverse) return;
  for (size_t i = 0; i < b.free.size(); ++i)
    for (size_t j = 0; j < b.free.size(); ++j)
      b.lens_covariance(b.free[i], b.free[j]) =
          (*inverse)(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j));
}

CameraMapping::Covariance covariance_with_pose(const Bundle& b, size_t view) {
  const Normal n = normal_equations(b);
  const Eigen::MatrixXd pose = inverse_symmetric(n.pose[view]).value_or(Eigen::MatrixXd::Zero(6, 6));
  // All nine rows, zero where a parameter is fixed.
  Eigen::MatrixXd mixed = Eigen::MatrixXd::Zero(9, 6);
  for (size_t i = 0; i < b.free.size(); ++i)
    mixed.row(b.free[i]) = n.mixed[view].row(static_cast<Eigen::Index>(i));
  const Eigen::MatrixXd lens = b.lens_covariance, pose_by_lens = -product(pose, mixed.transpose()),
                        coupled = product(pose_by_lens, lens);
  CameraMapping::Covariance c;
  c.topLeftCorner<9, 9>() = b.lens_covariance;
  c.bottomLeftCorner<6, 9>() = coupled;
  c.topRightCorner<9, 6>() = coupled.transpose();
  c.bottomRightCorner<6, 6>() = pose + product(coupled, pose_by_lens.transpose());
  return c;
}

Pose3 pose_from_homography(const Lens& lens, const Homography& pixel_from_board) {
  Eigen::Matrix3d h = pixel_from_board;  // to rays of the camera
  h.row(0) = (h.row(0) - lens.cx * h.row(2)) / lens.fx, h.row(1) = (h.row(1) - lens.cy * h.row(2)) / lens.fy;
  h /= std::sqrt(h.col(0).norm() * h.col(1).norm());
  if (h(2, 2) < 0) h = -h;  // in front of the camera
  Eigen::Matrix3d rotation;
  rotation << h.col(0), h.col(1), h.col(0).cross(h.col(1));
  return {Eigen::Quaterniond(nearest_rotation(rotation)).normalized(), h.col(2)};
}

std::optional<Homography> undistorted_homography(const Lens& lens, const std::vector<Observation>& points) {
  std::vector<Point2> from, to;
  for (const Observation& o : points) {
    const auto ray = ray_of(lens, o.pixel);
    if (!ray || !o.used) continue;
    from.push_back({o.board.x(), o.board.y()});
    to.push_back({lens.fx * ray->x() + lens.cx, lens.fy * ray->y() + lens.cy});
  }
  return homography_from_points(from, to);
}

void correct_dots(Bundle& b) {
  for (ObservedView& view : b.views) {
    if (view.radius_mm <= 0) continue;
    const Eigen::Matrix3d r = view.camera_from_board.rotation.toRotationMatrix();
    Homography h;  // to normalised camera coordinates
    h << r.col(0), r.col(1), view.camera_from_board.position;
    for (Observation& o : view.points) {
      const Point2 centre{o.board.x(), o.board.y()},
          seen = projected_circle_centre(h, centre, view.radius_mm), plain = apply(h, centre);
      o.bias = project(b.lens, {seen.x, seen.y, 1}) - project(b.lens, {plain.x, plain.y, 1});
    }
  }
}

}  // namespace heron
