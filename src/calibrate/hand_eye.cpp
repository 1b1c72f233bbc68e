#include "heron/calibrate/hand_eye.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "geometry/least_squares.hpp"
#include "geometry/linear.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

using Vector6 = Eigen::Matrix<double, 6, 1>;
using Matrix6 = Eigen::Matrix<double, 6, 6>;

/// One equation A X = Y B: `a` is the robot's share, `b` the picture's, X = carrier_from_camera, Y =
/// other_from_board. On the arm: base_from_flange * flange_from_camera = base_from_board * board_from_camera.
/// Fixed: flange_from_base * base_from_camera = flange_from_board * board_from_camera.
struct Pair {
  Pose3 a, b;
  Matrix6 weight = Matrix6::Identity();  ///< whitens the residual
};

std::vector<Pair> pairs_of(const std::vector<HandEyeSample>& stops, CameraMount mount) {
  std::vector<Pair> pairs;
  for (const HandEyeSample& s : stops)
    pairs.push_back({mount == CameraMount::arm ? s.base_from_flange : s.base_from_flange.inverse(),
                     s.camera_from_board.inverse()});
  return pairs;
}

Eigen::Matrix4d left_product(const Eigen::Quaterniond& q) {
  Eigen::Matrix4d m;
  m << q.w(), -q.x(), -q.y(), -q.z(), q.x(), q.w(), -q.z(), q.y(), q.y(), q.z(), q.w(), -q.x(), q.z(), -q.y(),
      q.x(), q.w();
  return m;
}

Eigen::Matrix4d right_product(const Eigen::Quaterniond& q) {
  Eigen::Matrix4d m;
  m << q.w(), -q.x(), -q.y(), -q.z(), q.x(), q.w(), q.z(), -q.y(), q.y(), -q.z(), q.w(), q.x(), q.z(), q.y(),
      -q.x(), q.w();
  return m;
}

Eigen::Quaterniond quaternion_of(const Eigen::Vector4d& v) {
  return Eigen::Quaterniond(v[0], v[1], v[2], v[3]).normalized();
}

/// Rotations of X and Y with qa qx = qy qb up to sign, which the best of both signs settles pair by pair.
std::pair<Eigen::Quaterniond, Eigen::Quaterniond> first_rotations(const std::vector<Pair>& pairs) {
  // Relative motions first: Ra Rx = Rx Rb, whose sign is fixed by the scalar parts.
  Eigen::Matrix4d normal = Eigen::Matrix4d::Zero();
  for (size_t i = 0; i < pairs.size(); ++i)
    for (size_t j = 0; j < i; ++j) {
      Eigen::Quaterniond a = pairs[j].a.rotation.conjugate() * pairs[i].a.rotation,
                         b = pairs[j].b.rotation.conjugate() * pairs[i].b.rotation;
      if (a.w() < 0) a.coeffs() = -a.coeffs();
      if (b.w() < 0) b.coeffs() = -b.coeffs();
      const Eigen::Matrix4d m = left_product(a) - right_product(b);
      normal += m.transpose() * m;
    }
  const Eigen::Quaterniond x = quaternion_of(eigen_symmetric(normal).vectors.col(0));
  Eigen::Matrix4d mean = Eigen::Matrix4d::Zero();  // of Ra Rx Rb^-1
  for (const Pair& p : pairs) {
    const Eigen::Quaterniond y = p.a.rotation * x * p.b.rotation.conjugate();
    const Eigen::Vector4d v(y.w(), y.x(), y.y(), y.z());
    mean += v * v.transpose();
  }
  return {x, quaternion_of(eigen_symmetric(mean).vectors.col(3))};
}

/// Positions: Ra tx - ty = Ry tb - ta.
void first_positions(const std::vector<Pair>& pairs, Pose3& x, Pose3& y) {
  const auto n = static_cast<Eigen::Index>(pairs.size());
  Eigen::MatrixXd m(3 * n, 6);
  Eigen::VectorXd right(3 * n);
  for (Eigen::Index i = 0; i < n; ++i) {
    const Pair& p = pairs[static_cast<size_t>(i)];
    m.block<3, 3>(3 * i, 0) = p.a.rotation.toRotationMatrix();
    m.block<3, 3>(3 * i, 3) = -Eigen::Matrix3d::Identity();
    right.segment<3>(3 * i) = y.rotation * p.b.position - p.a.position;
  }
  const Eigen::VectorXd t = least_squares(m, right).x;
  x.position = t.head<3>(), y.position = t.tail<3>();
}

Pose3 pose_moved(const Pose3& pose, const Eigen::Ref<const Vector6>& by) {
  // Turned about the pose's own origin, so that turn and shift do not mix.
  return {(turn_of(by.head<3>()) * pose.rotation).normalized(), pose.position + by.tail<3>()};
}

/// The flange by the picture, relative to the reported one: turn and shift, in the robot's
/// frame.
Vector6 residual_of(const HandEyeSample& s, const Pose3& x, const Pose3& y, CameraMount mount) {
  const Pose3 seen = mount == CameraMount::arm ? y * s.camera_from_board.inverse() * x.inverse()
                                               : x * s.camera_from_board * y.inverse();
  Vector6 r;
  r << rotation_vector_of(s.base_from_flange.rotation * seen.rotation.conjugate()),
      s.base_from_flange.position - seen.position;
  return r;
}

/// Covariance that the board's pose lends to that residual.
Matrix6 picture_covariance(const HandEyeSample& s, const Pose3& x, const Pose3& y, CameraMount mount) {
  Matrix6 by_picture;
  const double step = 1e-6;
  for (int k = 0; k < 6; ++k) {
    HandEyeSample ahead = s, behind = s;
    const auto change = [&](HandEyeSample& stop, double by) {
      const Vector6 v = Vector6::Unit(k) * by;
      const Eigen::Quaterniond turn = turn_of(v.head<3>());
      stop.camera_from_board = {turn * s.camera_from_board.rotation,
                                turn * s.camera_from_board.position + v.tail<3>()};
    };
    const double by = k < 3 ? step : step * 1000;
    change(ahead, by), change(behind, -by);
    by_picture.col(k) = (residual_of(ahead, x, y, mount) - residual_of(behind, x, y, mount)) / (2 * by);
  }
  return by_picture * s.covariance * by_picture.transpose();
}

std::vector<Matrix6> picture_covariances(const std::vector<HandEyeSample>& stops, const Pose3& x,
                                         const Pose3& y, CameraMount mount) {
  std::vector<Matrix6> all;
  for (const HandEyeSample& s : stops) all.push_back(picture_covariance(s, x, y, mount));
  return all;
}

/// Variances of the robot's turns (radians) and shifts (mm), an axis.
struct RobotVariances {
  double turn = std::pow(degrees(0.05).radians(), 2), shift = 0.1 * 0.1;
  Matrix6 matrix() const {
    Matrix6 m = Matrix6::Zero();
    m.diagonal() << turn, turn, turn, shift, shift, shift;
    return m;
  }
};

/// How a stop's residual moves with turn and shift of both unknown poses.
Eigen::Matrix<double, 6, 12> residual_slope(const HandEyeSample& s, const Pose3& x, const Pose3& y,
                                            CameraMount mount) {
  Eigen::Matrix<double, 6, 12> j;
  for (int k = 0; k < 12; ++k) {
    const double by = (k % 6) < 3 ? 1e-5 : 1e-2;
    const auto at = [&](double d) {
      Vector6 dx = Vector6::Zero(), dy = Vector6::Zero();
      (k < 6 ? dx : dy)[k % 6] = d;
      return residual_of(s, pose_moved(x, dx), pose_moved(y, dy), mount);
    };
    j.col(k) = (at(by) - at(-by)) / (2 * by);
  }
  return j;
}

/// One step of restricted maximum likelihood for both variances by Fisher scoring (Patterson, Thompson,
/// 1971): what the residuals show beyond the picture's share and what the fit took away.
RobotVariances estimated(const RobotVariances& now, const std::vector<HandEyeSample>& stops,
                         const std::vector<Matrix6>& picture, const Pose3& x, const Pose3& y,
                         CameraMount mount) {
  const auto n = static_cast<Eigen::Index>(6 * stops.size());
  Eigen::MatrixXd weight = Eigen::MatrixXd::Zero(n, n), shares = weight, slope(n, 12);
  Eigen::VectorXd residual(n);
  std::array<Eigen::VectorXd, 2> kind{Eigen::VectorXd::Zero(n),
                                      Eigen::VectorXd::Zero(n)};  // diagonals: turns, shifts
  for (size_t i = 0; i < stops.size(); ++i) {
    const auto at = static_cast<Eigen::Index>(6 * i);
    weight.block<6, 6>(at, at) =
        inverse_symmetric(picture[i] + now.matrix()).value_or(Eigen::MatrixXd::Zero(6, 6));
    shares.block<6, 6>(at, at) = picture[i];
    slope.block<6, 12>(at, 0) = residual_slope(stops[i], x, y, mount);
    residual.segment<6>(at) = residual_of(stops[i], x, y, mount);
    kind[0].segment<3>(at).setOnes(), kind[1].segment<3>(at + 3).setOnes();
  }
  const Eigen::VectorXd lengths = slope.colwise().norm().cwiseInverse();
  slope = slope * lengths.asDiagonal();
  const Eigen::MatrixXd weighted = product(weight, slope);
  const Eigen::MatrixXd p =
      weight - product(weighted, solve_symmetric(product(slope.transpose(), weighted), weighted.transpose()));
  const Eigen::VectorXd pr = product(p, residual).col(0);
  const Eigen::MatrixXd p_shares = product(p, shares);
  // Rows and columns are scaled by the present variances, which differ by many powers of ten.
  const double scale[2] = {now.turn, now.shift};
  Eigen::MatrixXd left(2, 2), right(2, 1);
  for (int k = 0; k < 2; ++k) {
    const Eigen::MatrixXd pk = p * kind[static_cast<size_t>(k)].asDiagonal();
    right(k, 0) = scale[k] * (pr.dot(kind[static_cast<size_t>(k)].cwiseProduct(pr)) -
                              pk.cwiseProduct(p_shares.transpose()).sum());
    for (int l = 0; l < 2; ++l) {
      const Eigen::MatrixXd pl = p * kind[static_cast<size_t>(l)].asDiagonal();
      left(k, l) = scale[k] * scale[l] * pk.cwiseProduct(pl.transpose()).sum();
    }
  }
  const Eigen::MatrixXd v = solve_symmetric(left, right);
  return {std::clamp(v(0, 0) * now.turn, 0.01 * now.turn + 1e-14, 100 * now.turn),
          std::clamp(v(1, 0) * now.shift, 0.01 * now.shift + 1e-10, 100 * now.shift)};
}

struct Solution {
  Pose3 x, y;
  LeastSquaresFit fit;
};

Solution refine(const std::vector<HandEyeSample>& stops, const std::vector<Matrix6>& whiten, const Pose3& x0,
                const Pose3& y0, CameraMount mount) {
  const auto count = static_cast<int>(6 * stops.size());
  Solution s{x0, y0, {}};
  // Twice, so that the parameters end near zero, where they are the turn and shift that the covariance speaks
  // of.
  for (int round = 0; round < 2; ++round) {
    const Pose3 x = s.x, y = s.y;
    s.fit = solve_least_squares(
        [&](const Eigen::VectorXd& v, Eigen::VectorXd& r) {
          const Pose3 xv = pose_moved(x, v.head<6>()), yv = pose_moved(y, v.tail<6>());
          for (size_t i = 0; i < stops.size(); ++i)
            r.segment<6>(static_cast<Eigen::Index>(6 * i)) = whiten[i] * residual_of(stops[i], xv, yv, mount);
        },
        Eigen::VectorXd::Zero(12), count);
    s.x = pose_moved(x, s.fit.x.head<6>()), s.y = pose_moved(y, s.fit.x.tail<6>());
  }
  return s;
}

void require_motion(const std::vector<HandEyeSample>& stops) {
  if (stops.size() < 4)
    throw Error(ErrorCode::not_determined,
                fmt::format("hand-eye: {} usable stops; at least 4 are needed, better 12, turned by 30 "
                            "degrees or more about different axes",
                            stops.size()));
  Eigen::Matrix3d spread = Eigen::Matrix3d::Zero();
  double largest = 0;
  for (size_t i = 0; i < stops.size(); ++i)
    for (size_t j = 0; j < i; ++j) {
      const Eigen::Vector3d turn = rotation_vector_of(stops[j].base_from_flange.rotation.conjugate() *
                                                      stops[i].base_from_flange.rotation);
      largest = std::max(largest, turn.norm());
      spread += turn * turn.transpose();
    }
  if (largest < degrees(5).radians())
    throw Error(ErrorCode::not_determined,
                fmt::format("hand-eye: the stops differ by {:.1f} degrees at most; turn the flange by 30 "
                            "degrees or more, about different axes",
                            radians(largest).degrees()));
  const SymmetricEigen eigen = eigen_symmetric(spread);
  if (eigen.values[1] < 0.003 * eigen.values[2]) {
    const Eigen::Vector3d axis = eigen.vectors.col(2);
    throw Error(ErrorCode::not_determined,
                fmt::format("hand-eye: all turns go about one axis of the flange ({:.2f}, {:.2f}, {:.2f}), "
                            "so the place along it is free; tilt the flange about other axes too",
                            axis.x(), axis.y(), axis.z()));
  }
}

}  // namespace

HandEyeCalibration solve_hand_eye(const std::vector<HandEyeSample>& given, CameraMount mount) {
  require_motion(given);
  std::vector<HandEyeSample> stops = given;
  std::vector<size_t> kept(given.size());
  for (size_t i = 0; i < kept.size(); ++i) kept[i] = i;
  HandEyeCalibration result;
  result.stops.resize(given.size());
  for (;;) {
    const std::vector<Pair> pairs = pairs_of(stops, mount);
    Pose3 x, y;
    std::tie(x.rotation, y.rotation) = first_rotations(pairs);
    first_positions(pairs, x, y);
    // Variances of the robot's turns and shifts, estimated from what the residuals leave beyond the picture's
    // share.
    RobotVariances robot;
    std::vector<Matrix6> whiten(stops.size());
    Solution s;
    for (int round = 0; round < 8; ++round) {
      const std::vector<Matrix6> picture = picture_covariances(stops, x, y, mount);
      for (size_t i = 0; i < stops.size(); ++i) whiten[i] = whitener(picture[i] + robot.matrix());
      s = refine(stops, whiten, x, y, mount);
      if (!s.fit.determined)
        throw Error(
            ErrorCode::not_determined,
            "hand-eye: the motions do not fix all unknowns; turn the flange by 30 degrees or more about "
            "different axes");
      x = s.x, y = s.y;
      robot = estimated(robot, stops, picture, x, y, mount);
    }
    // One stop that was written down wrong would bend all others.
    size_t worst = 0;
    double largest = 0;
    std::vector<double> sizes;
    for (size_t i = 0; i < stops.size(); ++i) {
      const Vector6 r = residual_of(stops[i], x, y, mount);
      sizes.push_back(r.tail<3>().norm() + 200 * r.head<3>().norm());
      if (sizes.back() > largest) largest = sizes.back(), worst = i;
    }
    std::vector<double> sorted = sizes;
    std::sort(sorted.begin(), sorted.end());
    if (stops.size() > 5 && largest > 5 * sorted[sorted.size() / 2] + 0.01) {
      result.stops[kept[worst]].used = false;
      stops.erase(stops.begin() + static_cast<std::ptrdiff_t>(worst));
      kept.erase(kept.begin() + static_cast<std::ptrdiff_t>(worst));
      require_motion(stops);
      continue;
    }
    result.carrier_from_camera = x, result.other_from_board = y;
    result.covariance = s.fit.unit_covariance;
    result.robot_sigma_mm = std::sqrt(robot.shift);
    result.robot_sigma_angle = radians(std::sqrt(robot.turn));
    break;
  }
  double mm = 0, turn = 0;
  for (size_t i = 0; i < given.size(); ++i) {
    const Vector6 r = residual_of(given[i], result.carrier_from_camera, result.other_from_board, mount);
    result.stops[i].off_mm = r.tail<3>().norm();
    result.stops[i].off_angle = radians(r.head<3>().norm());
    if (result.stops[i].used) mm += r.tail<3>().squaredNorm(), turn += r.head<3>().squaredNorm();
  }
  const double n = 3 * static_cast<double>(kept.size());
  result.rms_mm = std::sqrt(mm / n), result.rms_angle = radians(std::sqrt(turn / n));
  return result;
}

TurningCentre find_turning_centre(const std::vector<Angle>& wrist, const std::vector<Point2>& seen) {
  if (wrist.size() != seen.size()) fail_argument("turning centre: as many angles as places are needed");
  if (wrist.size() < 3)
    throw Error(ErrorCode::not_determined,
                fmt::format("turning centre: {} wrist angles; at least 3 are needed", wrist.size()));
  Angle span;
  for (Angle a : wrist)
    for (Angle b : wrist) span = std::max(span, abs((a - b).wrapped()));
  if (span < degrees(5))
    throw Error(ErrorCode::not_determined, fmt::format("turning centre: the wrist turns by {:.1f} degrees at "
                                                       "most; the centre needs 5 or more, better 180",
                                                       span.degrees()));
  TurningCentre best{};
  double least = std::numeric_limits<double>::infinity();
  for (const bool backwards : {false, true}) {
    const auto n = static_cast<Eigen::Index>(wrist.size());
    Eigen::MatrixXd m(2 * n, 4);
    Eigen::VectorXd right(2 * n);
    for (Eigen::Index i = 0; i < n; ++i) {
      const Angle a = backwards ? -wrist[static_cast<size_t>(i)] : wrist[static_cast<size_t>(i)];
      m.row(2 * i) << 1, 0, cos(a), -sin(a);
      m.row(2 * i + 1) << 0, 1, sin(a), cos(a);
      right.segment<2>(2 * i) << seen[static_cast<size_t>(i)].x, seen[static_cast<size_t>(i)].y;
    }
    const LinearLeastSquares fit = least_squares(m, right);
    const Eigen::VectorXd& v = fit.x;
    const double left = fit.sum_of_squares;
    if (!(left < least)) continue;
    least = left;
    best = {{v[0], v[1]}, {v[2], v[3]}, backwards, std::sqrt(left / static_cast<double>(n)), 0};
    const double variance = 2 * n > 4 ? left / static_cast<double>(2 * n - 4) : 0;
    best.sigma_mm = std::sqrt(variance * fit.unit_covariance(0, 0));
  }
  return best;
}

}  // namespace heron
