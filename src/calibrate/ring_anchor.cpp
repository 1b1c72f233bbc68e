#include "heron/calibrate/ring_anchor.hpp"

#include <fmt/format.h>

#include <Eigen/LU>

#include <algorithm>
#include <numbers>

#include "geometry/least_squares.hpp"
#include "geometry/linear.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/ring_pose.hpp"

namespace heron {
namespace {

Eigen::Vector3d world_of(const RingAnchor& a, int quarter) {
  const Angle turn = a.angle.turn() + radians(quarter * std::numbers::pi / 2);
  const Point2 p = a.place_mm.plain() + unit(turn) * (0.5 * a.diameter_mm);
  return {p.x, p.y, a.height_mm};
}

const Lens* lens_of(const Mapping& mapping) {
  return mapping.camera() ? &mapping.camera()->camera().lens : nullptr;
}

/// Without asking for a height of what knows none, since motions along a plane keep it.
Point2 pixel_of(const Mapping& mapping, const Eigen::Vector3d& world) {
  if (const CameraMapping* c = mapping.camera())
    return c->pixel_from_world({world.x(), world.y()}, world.z());
  return mapping.plane()->pixel_from_world({world.x(), world.y()});
}

RimVector rim_seen_of(const Mapping& mapping, const RingAnchor& a, const auto& moved) {
  RimVector rim;
  for (int k = 0; k < 4; ++k) {
    const Point2 p = pixel_of(mapping, moved(world_of(a, k)));
    rim.segment<2>(2 * k) << p.x, p.y;
  }
  return rim;
}

constexpr auto unmoved = [](const Eigen::Vector3d& w) { return w; };

/// A motion of the world about a middle: along the plane x, y, turn (and scale), or free: turn, shift.
struct MotionAbout {
  Eigen::Vector3d middle;
  Eigen::Vector3d operator()(const Eigen::VectorXd& v, const Eigen::Vector3d& w) const {
    if (v.size() == 6) return turn_of(v.head<3>()) * (w - middle) + middle + v.tail<3>();
    const Point2 p =
        rotated({w.x() - middle.x(), w.y() - middle.y()}, radians(v[2])) * (v.size() == 4 ? v[3] : 1.0);
    return {p.x + middle.x() + v[0], p.y + middle.y() + v[1], w.z()};
  }
  Pose3 pose(const Eigen::VectorXd& v) const {
    Pose3 about;
    about.rotation = v.size() == 6 ? turn_of(v.head<3>()) : turn_of({0, 0, v[2]});
    about.position = (*this)(v, Eigen::Vector3d::Zero());
    return about;
  }
};

struct SeenAnchor {
  RingAnchor anchor;
  const RingSeen* seen;
  RimVector rim;
  Eigen::MatrixXd white;
};

/// Each anchor with the mark of that identity that scores best, whitened by what both are worth.
std::vector<SeenAnchor> pairs_of(const Mapping& mapping, const std::vector<RingAnchor>& anchors,
                                 const std::vector<RingSeen>& seen) {
  std::vector<SeenAnchor> pairs;
  for (const RingAnchor& a : anchors) {
    const auto same = [&](const RingSeen& s) { return s.identity == a.identity; };
    const auto best = std::find_if(seen.begin(), seen.end(), same);  // the best of an identity comes first
    if (best == seen.end()) continue;
    RimCovariance covariance;
    SeenAnchor p{a, &*best, rim_of(*best, covariance, lens_of(mapping)), {}};
    const auto add = [&](RingAnchor up, RingAnchor down, double sigma, double step) {
      const RimVector by =
          (rim_seen_of(mapping, up, unmoved) - rim_seen_of(mapping, down, unmoved)) / (2 * step) * sigma;
      covariance += by * by.transpose();
    };
    const double step = 1e-3 * a.diameter_mm;
    RingAnchor up = a, down = a;
    up.place_mm.x += step, down.place_mm.x -= step;
    add(up, down, a.sigma_mm, step);
    up = down = a;
    up.place_mm.y += step, down.place_mm.y -= step;
    add(up, down, a.sigma_mm, step);
    up = down = a;
    up.angle = a.angle + WorldAngle(radians(1e-3)), down.angle = a.angle - WorldAngle(radians(1e-3));
    add(up, down, a.sigma_angle.radians(), 1e-3);
    up = down = a;
    up.diameter_mm += step, down.diameter_mm -= step;
    add(up, down, a.sigma_diameter_mm, step);
    p.white = whitener(covariance);
    pairs.push_back(std::move(p));
  }
  if (pairs.empty())
    throw Error(ErrorCode::not_determined,
                anchors.empty()
                    ? "the mapping has no ring marks; anchor them first, while it holds (`heron calibrate "
                      "--anchor`)"
                    : fmt::format("none of the mapping's {} ring marks is seen; are they covered, out of the "
                                  "picture, or smaller than 18 pixels?",
                                  anchors.size()));
  return pairs;
}

LeastSquaresFit fit_motion(const Mapping& mapping, const std::vector<SeenAnchor>& pairs,
                           const MotionAbout& motion, const Eigen::VectorXd& start) {
  return solve_least_squares(
      [&](const Eigen::VectorXd& v, Eigen::VectorXd& r) {
        for (size_t i = 0; i < pairs.size(); ++i) {
          try {
            const RimVector rim =
                rim_seen_of(mapping, pairs[i].anchor, [&](const Eigen::Vector3d& w) { return motion(v, w); });
            r.segment<8>(static_cast<Eigen::Index>(8 * i)) = product(pairs[i].white, pairs[i].rim - rim);
          } catch (const Error&) {  // behind the camera: nothing a solver should go to
            r.segment<8>(static_cast<Eigen::Index>(8 * i)).setConstant(1e9);
          }
        }
      },
      start, static_cast<int>(8 * pairs.size()));
}

double squares_of(const LeastSquaresFit& fit, const std::vector<SeenAnchor>& pairs) {
  return fit.rms * fit.rms * static_cast<double>(8 * pairs.size());
}

MotionAbout about_middle(const std::vector<SeenAnchor>& pairs) {
  MotionAbout motion{Eigen::Vector3d::Zero()};
  for (const SeenAnchor& p : pairs)
    motion.middle += Eigen::Vector3d(p.anchor.place_mm.x, p.anchor.place_mm.y, p.anchor.height_mm) /
                     static_cast<double>(pairs.size());
  return motion;
}

/// A motion along the plane from the first mark alone.
Eigen::VectorXd start_along_plane(const Mapping& mapping, const SeenAnchor& p, const MotionAbout& motion) {
  const WorldPose now = mapping.world_pose(p.seen->centre, p.seen->angle, exact_pose, p.anchor.height_mm);
  const Angle turn = (now.angle - p.anchor.angle).wrapped().turn();
  const Point2 middle{motion.middle.x(), motion.middle.y()};
  const Point2 shift =
      Point2{now.x_mm, now.y_mm} - middle - rotated(p.anchor.place_mm.plain() - middle, turn);
  Eigen::VectorXd v(3);
  v << shift.x, shift.y, turn.radians();
  return v;
}

/// Motions that put the largest mark where it is seen, with either tilt.
std::vector<Eigen::VectorXd> free_starts(const CameraMapping& mapping, const std::vector<SeenAnchor>& pairs,
                                         const MotionAbout& motion) {
  const SeenAnchor& p = *std::max_element(pairs.begin(), pairs.end(), [](const auto& a, const auto& b) {
    return a.seen->diameter_px < b.seen->diameter_px;
  });
  std::vector<Eigen::VectorXd> starts{Eigen::VectorXd::Zero(6)};
  const Pose3 world_from_ring{turn_of({0, 0, p.anchor.angle.radians()}),
                              {p.anchor.place_mm.x, p.anchor.place_mm.y, p.anchor.height_mm}};
  for (const RingPose& r : ring_poses(*p.seen, mapping, p.anchor.diameter_mm)) {
    const Pose3 old_from_now =
        mapping.camera().camera_from_world.inverse() * r.camera_from_ring * world_from_ring.inverse();
    Eigen::VectorXd v(6);
    v << rotation_vector_of(old_from_now.rotation), old_from_now * motion.middle - motion.middle;
    starts.push_back(v);
  }
  return starts;
}

/// A camera's pose by what moves it: a small turn and shift of its own axes, as its covariance has it.
Eigen::Matrix<double, 6, 1> camera_change(const Pose3& from, const Pose3& to) {
  Eigen::Matrix<double, 6, 1> change;
  const Eigen::Quaterniond turn = to.rotation * from.rotation.conjugate();
  change << rotation_vector_of(turn), to.position - turn * from.position;
  return change;
}

Mapping carried(const CameraMapping& old, const MotionAbout& motion, const LeastSquaresFit& fit) {
  const Pose3 camera_from_old = old.camera().camera_from_world, now = camera_from_old * motion.pose(fit.x);
  Eigen::MatrixXd by(6, fit.x.size());
  for (Eigen::Index k = 0; k < fit.x.size(); ++k) {
    const double step = 1e-5;
    Eigen::VectorXd up = fit.x, down = fit.x;
    up[k] += step, down[k] -= step;
    by.col(k) = (camera_change(now, camera_from_old * motion.pose(up)) -
                 camera_change(now, camera_from_old * motion.pose(down))) /
                (2 * step);
  }
  CameraMapping::Covariance covariance = old.covariance();
  covariance.bottomRightCorner<6, 6>() += product(product(by, fit.unit_covariance), by.transpose());
  return CameraMapping({old.camera().lens, now}, covariance);
}

Mapping carried(const PlaneMapping& old, const MotionAbout& motion, const LeastSquaresFit& fit) {
  const auto moved = [&](const Homography& h, const Eigen::VectorXd& v) {
    const Point2 shift{motion(v, Eigen::Vector3d::Zero()).x(), motion(v, Eigen::Vector3d::Zero()).y()};
    Homography m;
    m << std::cos(v[2]), -std::sin(v[2]), shift.x, std::sin(v[2]), std::cos(v[2]), shift.y, 0, 0, 1;
    const Homography result = h * m;
    return Homography(result / result(2, 2));
  };
  PlaneMapping::Covariance by_old;
  for (int k = 0; k < 8; ++k) {
    Homography up = old.matrix(), down = up;
    const double step = 1e-6 * std::max(1e-3, std::abs(up(k / 3, k % 3)));
    up(k / 3, k % 3) += step, down(k / 3, k % 3) -= step;
    by_old.col(k) = (elements_of(moved(up, fit.x)) - elements_of(moved(down, fit.x))) / (2 * step);
  }
  Eigen::Matrix<double, 8, 3> by_motion;
  for (int k = 0; k < 3; ++k) {
    Eigen::VectorXd up = fit.x, down = fit.x;
    up[k] += 1e-5, down[k] -= 1e-5;
    by_motion.col(k) = (elements_of(moved(old.matrix(), up)) - elements_of(moved(old.matrix(), down))) / 2e-5;
  }
  return PlaneMapping(moved(old.matrix(), fit.x),
                      product(product(by_old, old.covariance()), by_old.transpose()) +
                          product(product(by_motion, fit.unit_covariance), by_motion.transpose()));
}

}  // namespace

RingAnchor anchor_ring(const Mapping& mapping, const RingSeen& seen, double height_mm) {
  const WorldPose pose = mapping.world_pose(seen.centre, seen.angle, exact_pose, height_mm);
  RimCovariance covariance;
  const RimVector rim = rim_of(seen, covariance, lens_of(mapping));
  const Eigen::MatrixXd white = whitener(covariance);
  RingAnchor anchor;
  anchor.identity = seen.identity, anchor.height_mm = height_mm;
  const auto placed = [&](const Eigen::VectorXd& v) {
    RingAnchor a = anchor;
    a.place_mm = {v[0], v[1]}, a.angle = WorldAngle(radians(v[2]).wrapped()), a.diameter_mm = v[3];
    return a;
  };
  Eigen::VectorXd start(4);
  start << pose.x_mm, pose.y_mm, pose.angle.radians(),
      seen.diameter_px * mapping.mm_per_pixel(seen.centre, height_mm);
  const LeastSquaresFit fit = solve_least_squares(
      [&](const Eigen::VectorXd& v, Eigen::VectorXd& r) {
        r = product(white, rim - rim_seen_of(mapping, placed(v), unmoved));
      },
      start, 8);
  // Sigmas of some thousandths of a pixel would make much of what a mapping leaves: two hundredths of the
  // diameter may stay.
  double worst = 0;
  const RimVector left = rim - rim_seen_of(mapping, placed(fit.x), unmoved);
  for (int k = 0; k < 8; ++k)
    worst = std::max(worst, std::abs(left[k]) / (0.02 * seen.diameter_px + 5 * std::sqrt(covariance(k, k))));
  if (!fit.determined || worst > 1)
    throw Error(
        ErrorCode::not_determined,
        fmt::format("ring mark {}: its outline is not that of a mark lying flat {:g} mm above the work "
                    "plane (off by {:.2f} px); lay it flat, give its height, or calibrate first",
                    seen.identity, height_mm, left.cwiseAbs().maxCoeff()));
  anchor = placed(fit.x);
  anchor.sigma_mm = std::sqrt(0.5 * (fit.unit_covariance(0, 0) + fit.unit_covariance(1, 1)));
  anchor.sigma_angle = radians(std::sqrt(fit.unit_covariance(2, 2)));
  anchor.sigma_diameter_mm = std::sqrt(fit.unit_covariance(3, 3));
  return anchor;
}

TransferredMapping transfer_mapping(const Mapping& mapping, const std::vector<RingAnchor>& anchors,
                                    const std::vector<RingSeen>& seen, Motion freedom) {
  if (freedom == Motion::free && !mapping.camera())
    fail_argument(
        "transfer: a plane mapping can be transferred only along its plane; a free motion needs the lens "
        "(`heron calibrate --lens-from`)");
  const std::vector<SeenAnchor> pairs = pairs_of(mapping, anchors, seen);
  const MotionAbout motion = about_middle(pairs);
  TransferredMapping result;
  LeastSquaresFit fit;
  if (freedom == Motion::along_plane) {
    fit = fit_motion(mapping, pairs, motion, start_along_plane(mapping, pairs[0], motion));
  } else {
    std::vector<LeastSquaresFit> fits;
    for (const Eigen::VectorXd& start : free_starts(*mapping.camera(), pairs, motion))
      fits.push_back(fit_motion(mapping, pairs, motion, start));
    const auto squares = [&](const LeastSquaresFit& f) { return squares_of(f, pairs); };
    double best = squares(fits[0]);
    for (const auto& f : fits) best = std::min(best, squares(f));
    std::erase_if(fits, [&](const auto& f) { return squares(f) > best + 12; });
    fit = *std::min_element(fits.begin(), fits.end(), [](const auto& a, const auto& b) {
      return a.x.template head<3>().norm() < b.x.template head<3>().norm();
    });
    for (const auto& f : fits)
      result.ambiguous = result.ambiguous || (f.x.head<3>() - fit.x.head<3>()).norm() > 1e-3;
  }
  if (!fit.determined)
    throw Error(ErrorCode::not_determined, "transfer: the visible marks do not determine the motion");
  const auto n = fit.x.size();
  result.reduced_chi_square =
      squares_of(fit, pairs) / static_cast<double>(8 * pairs.size() - static_cast<size_t>(n));
  // What noise does not explain (a lens known only so well, a mark not quite flat) widens the sigmas.
  fit.unit_covariance *= std::max(1.0, result.reduced_chi_square);
  const Eigen::VectorXd sigma = fit.unit_covariance.diagonal().cwiseSqrt();
  result.old_from_now = motion.pose(fit.x);
  const Eigen::Index shift = n == 6 ? 3 : 0;
  result.shift_mm = {fit.x[shift], fit.x[shift + 1]};
  result.sigma_shift_mm = std::hypot(sigma[shift], sigma[shift + 1]) / std::sqrt(2.0);
  if (n == 6) {
    const Eigen::Vector3d normal = result.old_from_now.rotation * Eigen::Vector3d::UnitZ(),
                          x = result.old_from_now.rotation * Eigen::Vector3d::UnitX();
    result.turn = radians(std::atan2(x.y(), x.x()));
    result.tilt = radians(std::acos(std::clamp(normal.z(), -1.0, 1.0)));
    result.lift_mm = fit.x[5], result.sigma_lift_mm = sigma[5];
    result.sigma_turn = radians(sigma[2]);
    result.sigma_tilt = radians(std::hypot(sigma[0], sigma[1]) / std::sqrt(2.0));
  } else {
    result.turn = radians(fit.x[2]).wrapped(), result.sigma_turn = radians(sigma[2]);
  }
  for (const SeenAnchor& p : pairs) result.identities.push_back(p.anchor.identity);
  result.mapping =
      mapping.camera() ? carried(*mapping.camera(), motion, fit) : carried(*mapping.plane(), motion, fit);
  return result;
}

MappingCheck check_mapping(const Mapping& mapping, const std::vector<RingAnchor>& anchors,
                           const std::vector<RingSeen>& seen) {
  const std::vector<SeenAnchor> pairs = pairs_of(mapping, anchors, seen);
  const MotionAbout motion = about_middle(pairs);
  Eigen::VectorXd start(4);
  start << start_along_plane(mapping, pairs[0], motion), 1;
  const LeastSquaresFit fit = fit_motion(mapping, pairs, motion, start);
  if (!fit.determined)
    throw Error(ErrorCode::not_determined, "check: the visible marks do not determine the motion");
  const Eigen::VectorXd sigma = fit.unit_covariance.diagonal().cwiseSqrt();
  MappingCheck check;
  check.shift_mm = {fit.x[0], fit.x[1]};
  check.turn = radians(fit.x[2]).wrapped();
  check.scale = fit.x[3];
  check.sigma_shift_mm = std::hypot(sigma[0], sigma[1]) / std::sqrt(2.0);
  check.sigma_turn = radians(sigma[2]);
  check.sigma_scale = sigma[3];
  double squares = 0, expected = 0;
  for (const SeenAnchor& p : pairs) {
    const RimVector moved = rim_seen_of(mapping, p.anchor,
                                        [&](const Eigen::Vector3d&w) { return motion(fit.x, w); }),
                    old = rim_seen_of(mapping, p.anchor, unmoved);
    squares += (p.rim - moved).squaredNorm() / 4;
    const Eigen::MatrixXd covariance = *inverse_symmetric(product(p.white.transpose(), p.white));
    expected += covariance.trace() / 4;
    for (int k = 0; k < 4; ++k) {
      const Eigen::Vector3d w = world_of(p.anchor, k);
      check.points.push_back({{p.rim[2 * k], p.rim[2 * k + 1]},
                              {w.x(), w.y()},
                              {p.rim[2 * k] - old[2 * k], p.rim[2 * k + 1] - old[2 * k + 1]}});
    }
  }
  const auto n = static_cast<double>(pairs.size());
  check.shape_px = std::sqrt(squares / n), check.expected_px = std::sqrt(expected / n);
  const double reduced_chi_square = squares_of(fit, pairs) / (8 * n - 4);
  const bool lengths_hold =
      reduced_chi_square < 9 && std::abs(check.scale - 1) < 4 * check.sigma_scale + 5e-5;
  const bool still =
      norm(check.shift_mm) < 4 * check.sigma_shift_mm && abs(check.turn) < check.sigma_turn * 4;
  check.state = !lengths_hold ? MappingState::changed : still ? MappingState::holds : MappingState::moved;
  return check;
}

}  // namespace heron
