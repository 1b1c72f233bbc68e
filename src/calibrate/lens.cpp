#include "heron/calibrate/lens.hpp"

#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>

#include "bundle.hpp"
#include "heron/base/error.hpp"
#include "heron/base/median.hpp"
#include "lens_advice.hpp"

namespace heron {
namespace {

constexpr int k3_place = 8;
const std::vector<int> without_k3 = {0, 1, 2, 3, 4, 5, 6, 7};

ObservedView observed(const BoardView& view, const BoardShape& shape) {
  ObservedView o;
  for (const BoardPoint& p : view.points) {
    if (!is_finite(p.pixel))
      fail_argument(fmt::format("calibrate: {} holds a point that is not finite", view.name));
    const Point2 at = shape.point(p.column, p.row);
    o.points.push_back({p.pixel, {at.x, at.y, 0}});
  }
  return o;
}

/// Focal length in both directions from the views' homographies, with the principal point in the middle of
/// the picture (Zhang 2000, without skew): each view gives two linear equations in 1/fx^2 and 1/fy^2.
Lens first_lens(const std::vector<Homography>& homographies, int width, int height) {
  Lens lens{.cx = 0.5 * (width - 1), .cy = 0.5 * (height - 1)};
  Eigen::Matrix2d normal = Eigen::Matrix2d::Zero();
  Eigen::Vector2d right = Eigen::Vector2d::Zero();
  const double unit_length = std::max(width, height);  // keeps the numbers near one
  for (const Homography& pixel_from_board : homographies) {
    Eigen::Matrix3d h = pixel_from_board;
    h.row(0) -= lens.cx * h.row(2), h.row(1) -= lens.cy * h.row(2);
    h.topRows<2>() /= unit_length;
    h /= h.leftCols<2>().norm();
    const Eigen::Vector3d a = h.col(0), b = h.col(1);
    Eigen::Matrix2d e;
    e << a.x() * b.x(), a.y() * b.y(), a.x() * a.x() - b.x() * b.x(), a.y() * a.y() - b.y() * b.y();
    const Eigen::Vector2d f(-a.z() * b.z(), b.z() * b.z() - a.z() * a.z());
    normal += e.transpose() * e, right += e.transpose() * f;
  }
  const Eigen::Vector2d inverse = normal.inverse() * right;
  const double common = (normal.row(0).sum() + normal.row(1).sum()) > 0 ? right.sum() / normal.sum() : 0;
  const auto focal = [&](double inverse_square) {
    const double f = unit_length / std::sqrt(inverse_square);
    return inverse_square > 0 && f > 0.2 * unit_length && f < 50 * unit_length ? f : 0;
  };
  lens.fx = focal(inverse.x()), lens.fy = focal(inverse.y());
  if (lens.fx == 0 || lens.fy == 0 || lens.fx > 2 * lens.fy || lens.fy > 2 * lens.fx) {
    lens.fx = lens.fy = focal(common) > 0 ? focal(common) : 1.5 * unit_length;
  }
  return lens;
}

double rms_of(const Lens& lens, const ObservedView& view) {
  double sum = 0;
  size_t n = 0;
  for (const Observation& o : view.points) {
    if (!o.used) continue;
    const Point2 r = residual_of(lens, view, o);
    sum += dot(r, r), ++n;
  }
  return n ? std::sqrt(sum / static_cast<double>(n)) : 0;
}

void set_dot_radius(Bundle& b, const std::vector<const BoardView*>& views) {
  for (size_t v = 0; v < b.views.size(); ++v) {
    if (views[v]->dot_radius_px <= 0) continue;
    // The dot of median size lies about at the board's median distance.
    std::vector<double> scales;
    for (const Observation& o : b.views[v].points) {
      ProjectionDerivative d;
      project(b.lens, b.views[v].camera_from_board * o.board, &d);
      const Eigen::Matrix<double, 2, 2> by_board =
          (d.by_point * b.views[v].camera_from_board.rotation.toRotationMatrix()).leftCols<2>();
      scales.push_back(std::sqrt(std::abs(by_board.determinant())));
    }
    b.views[v].radius_mm = views[v]->dot_radius_px / median(scales);
  }
}

/// Adjusts, with the bias of dots recomputed until it settles.
void settle(Bundle& b, const std::vector<const BoardView*>& views) {
  adjust(b);
  const bool dots =
      std::any_of(views.begin(), views.end(), [](const BoardView* v) { return v->dot_radius_px > 0; });
  for (int round = 0; dots && round < 2; ++round) {
    set_dot_radius(b, views);
    correct_dots(b);
    adjust(b);
  }
}

/// Points further off than five sigma, the sigma taken from the median; true when some were rejected.
bool reject_outliers(Bundle& b) {
  std::vector<double> sizes;
  for (const ObservedView& v : b.views)
    for (const Observation& o : v.points)
      if (o.used) sizes.push_back(norm(residual_of(b.lens, v, o)));
  const double sigma = median(sizes) / 1.1774;  // median of a Rayleigh distribution
  bool some = false;
  for (ObservedView& v : b.views)
    for (Observation& o : v.points)
      if (o.used && norm(residual_of(b.lens, v, o)) > std::max(5.3 * sigma, 1e-3))
        o.used = false, some = true;
  return some;
}

/// The view that fits worst, when it fits far worse than the others do.
std::optional<size_t> worst_view(const Bundle& b) {
  std::vector<double> typical;  // medians, so that an outlier does not take its view along
  for (const ObservedView& v : b.views) {
    std::vector<double> sizes;
    for (const Observation& o : v.points)
      if (o.used) sizes.push_back(norm(residual_of(b.lens, v, o)));
    typical.push_back(median(sizes));
  }
  const auto worst = static_cast<size_t>(std::max_element(typical.begin(), typical.end()) - typical.begin());
  const double of_worst = typical[worst];
  return of_worst > 3 * median(typical) + 0.02 ? std::optional(worst) : std::nullopt;
}

/// Whether the data speak for a k3 other than zero, and what is left of it when it is taken for zero.
struct SixthOrder {
  bool supported = false;
  double variance_if_zero = 0;
};

/// Bayes' rule between k3 = 0 and k3 of about one either way (Schwarz, Estimating the dimension of a model,
/// 1978, takes the limit for many data): it is estimated when that is the more probable. Taken for zero, it
/// may still be another with the rest of the probability; that share is what the other parameters' sigmas
/// must hold.
SixthOrder weigh(const Bundle& with_k3) {
  if (!with_k3.determined) return {};
  const double plausible = 1, k3 = with_k3.lens.k3,
               variance = with_k3.variance() * with_k3.lens_covariance(k3_place, k3_place);
  const double wide = variance + plausible * plausible;
  const double against_zero =
      std::sqrt(variance / wide) * std::exp(std::min(700.0, 0.5 * k3 * k3 * (1 / variance - 1 / wide)));
  const double probable = against_zero / (1 + against_zero), shrink = plausible * plausible / wide;
  return {probable > 0.5, probable * (shrink * shrink * k3 * k3 + shrink * variance)};
}

Angle tilt_of(const Pose3& camera_from_board) {
  return radians(
      std::acos(std::min(1.0, std::abs((camera_from_board.rotation * Eigen::Vector3d::UnitZ()).z()))));
}

void require_views(size_t count) {
  if (count < 3)
    throw Error(ErrorCode::not_determined,
                fmt::format("calibrate: {} usable views of the board; a lens needs at least 3, better 10, "
                            "tilted by 20 to 40 degrees in different directions",
                            count));
}

}  // namespace

LensCalibration calibrate_lens(const std::vector<BoardView>& views, const BoardShape& shape, int width,
                               int height, const LensOptions& options) {
  shape.require_valid();
  if (options.plane_view < 0 || static_cast<size_t>(options.plane_view) >= std::max<size_t>(1, views.size()))
    fail_argument(
        fmt::format("calibrate: view {} is to be the plane; there are {}", options.plane_view, views.size()));
  if (!views.empty() && !views[static_cast<size_t>(options.plane_view)].placed)
    throw Error(
        ErrorCode::not_determined,
        fmt::format("calibrate: {} is to lie on the work plane, but only a part of its board is in sight, "
                    "without a mark, so its zero is unknown; name another picture as the plane",
                    views[static_cast<size_t>(options.plane_view)].name));
  LensCalibration result;
  result.views.resize(views.size());
  Bundle b;
  std::vector<size_t> kept;
  std::vector<Homography> homographies;
  for (size_t v = 0; v < views.size(); ++v) {
    ObservedView o = observed(views[v], shape);
    const auto h = views[v].points.size() >= 9
                       ? undistorted_homography({.fx = 1, .fy = 1, .cx = 0, .cy = 0}, o.points)
                       : std::nullopt;
    if (!h) {
      result.views[v].used = false;
      result.views[v].reason = fmt::format("{} points, which fix no plane", views[v].points.size());
      continue;
    }
    kept.push_back(v), homographies.push_back(*h), b.views.push_back(std::move(o));
  }
  require_views(kept.size());
  b.lens = first_lens(homographies, width, height);
  for (size_t v = 0; v < kept.size(); ++v)
    b.views[v].camera_from_board = pose_from_homography(b.lens, homographies[v]);
  const auto given = [&] {
    std::vector<const BoardView*> list;
    for (size_t v : kept) list.push_back(&views[v]);
    return list;
  };

  // Few parameters first: a far start with all of them can end in a fold of the distortion.
  b.free = {0, 1, 4};
  adjust(b);
  b.free = without_k3;
  settle(b, given());
  while (const auto bad = worst_view(b)) {
    ViewFit& fit = result.views[kept[*bad]];
    fit.used = false;
    fit.rms_px = rms_of(b.lens, b.views[*bad]);
    fit.camera_from_board = b.views[*bad].camera_from_board;
    kept.erase(kept.begin() + static_cast<std::ptrdiff_t>(*bad));
    b.views.erase(b.views.begin() + static_cast<std::ptrdiff_t>(*bad));
    require_views(kept.size());
    settle(b, given());
    fit.reason = fmt::format(
        "residual {:.2f} px, the others' are {:.3f} px: did the board or the camera move, is it blurred, or "
        "another board?",
        fit.rms_px, std::sqrt(2 * b.variance()));
  }
  for (int round = 0; round < 3 && reject_outliers(b); ++round) settle(b, given());

  Bundle with_k3 = b;
  with_k3.free.push_back(k3_place);
  settle(with_k3, given());
  const SixthOrder sixth = weigh(with_k3);
  if (sixth.supported) {
    result.k3_free = true;
    b = with_k3;
    for (int round = 0; round < 2 && reject_outliers(b); ++round) settle(b, given());
  }
  const double variance = b.variance(), sigma_f = std::sqrt(variance * b.lens_covariance(0, 0));
  if (!b.determined || !(b.lens.fx > 0) || !(b.lens.fy > 0) || !(sigma_f < 0.02 * b.lens.fx))
    throw Error(
        ErrorCode::not_determined,
        fmt::format(
            "calibrate: the views do not fix the focal length (it is known to {:.0f} of {:.0f} px): the "
            "board is tilted by {:.0f} degrees at most. Tilt it by 20 to 40 degrees, in two directions",
            std::min(sigma_f, 99999.0), std::abs(b.lens.fx), [&] {
              double most = 0;
              for (const ObservedView& v : b.views)
                most = std::max(most, tilt_of(v.camera_from_board).degrees());
              return most;
            }()));

  result.rms_px = std::sqrt(2 * b.sum_of_squares / b.residuals);
  result.sigma_px = std::sqrt(variance);
  size_t plane = 0;
  for (size_t v = 0; v < kept.size(); ++v) {
    ViewFit& fit = result.views[kept[v]];
    fit.camera_from_board = b.views[v].camera_from_board;
    fit.rms_px = rms_of(b.lens, b.views[v]);
    if (kept[v] == static_cast<size_t>(options.plane_view)) plane = v;
    int outliers = 0;
    for (const Observation& o : b.views[v].points) {
      const Point2 r = residual_of(b.lens, b.views[v], o);
      if (!o.used) {
        ++outliers;
        continue;
      }
      result.points.push_back({o.pixel, {o.board.x(), o.board.y()}, r, static_cast<int>(kept[v])});
      result.largest_px = std::max(result.largest_px, norm(r));
    }
    if (outliers)
      result.left_out.push_back(fmt::format("{}: {} of {} points lie off by more than five sigma",
                                            views[kept[v]].name, outliers, b.views[v].points.size()));
  }
  for (ViewFit& fit : result.views) fit.tilt = tilt_of(fit.camera_from_board);
  if (!result.views[static_cast<size_t>(options.plane_view)].used)
    throw Error(ErrorCode::not_determined,
                fmt::format("calibrate: {} is to lie on the work plane, but it was left out: {}",
                            views[static_cast<size_t>(options.plane_view)].name,
                            result.views[static_cast<size_t>(options.plane_view)].reason));
  CameraMapping::Covariance covariance = covariance_with_pose(b, plane) * variance;
  if (!result.k3_free && with_k3.determined) {
    // Taking k3 for zero moves everything else by so much a unit of what it really is.
    const CameraMapping::Covariance full = covariance_with_pose(with_k3, plane);
    const Eigen::Matrix<double, CameraMapping::parameter_count, 1> slope =
        full.col(k3_place) / full(k3_place, k3_place);
    covariance += sixth.variance_if_zero * slope * slope.transpose();
  }
  result.mapping = CameraMapping({b.lens, b.views[plane].camera_from_board}, covariance);
  result.advice = views_missing(result, width, height);
  return result;
}

PoseCalibration calibrate_pose(const BoardView& view, const BoardShape& shape, const CameraMapping& lens) {
  shape.require_valid();
  if (view.points.size() < 9)
    throw Error(ErrorCode::not_determined,
                fmt::format("calibrate: {} points in {}; a plane needs at least 9, spread over the work area",
                            view.points.size(), view.name));
  Bundle b;
  b.lens = lens.camera().lens;
  b.views.push_back(observed(view, shape));
  const auto h = undistorted_homography(b.lens, b.views[0].points);
  if (!h)
    throw Error(ErrorCode::not_determined,
                "calibrate: the points lie on one line, or the lens has no ray for them; a plane needs two "
                "directions");
  b.views[0].camera_from_board = pose_from_homography(b.lens, *h);
  settle(b, {&view});
  for (int round = 0; round < 3 && reject_outliers(b); ++round) settle(b, {&view});
  if (!b.determined)
    throw Error(ErrorCode::not_determined,
                "calibrate: the points do not fix the plane; spread them over the work area");
  PoseCalibration result;
  const double variance = b.variance();
  // The lens is known only so well; a pose fitted to it leans the other way.
  b.free = {0, 1, 2, 3, 4, 5, 6, 7, 8};
  b.lens_covariance = lens.covariance().topLeftCorner<9, 9>() / std::max(variance, 1e-12);
  result.mapping = CameraMapping({b.lens, b.views[0].camera_from_board},
                                 covariance_with_pose(b, 0) * std::max(variance, 1e-12));
  result.rms_px = std::sqrt(2 * b.sum_of_squares / b.residuals);
  result.sigma_px = std::sqrt(variance);
  for (const Observation& o : b.views[0].points) {
    if (!o.used) continue;
    const WorldPoint place(o.board.x(), o.board.y());
    result.points.push_back({o.pixel, place, residual_of(b.lens, b.views[0], o)});
    result.largest_mm =
        std::max(result.largest_mm, distance(result.mapping.world_from_pixel(o.pixel, 0), place));
  }
  return result;
}

}  // namespace heron
