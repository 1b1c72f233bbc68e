#include "heron/calibrate/known_length.hpp"

#include <fmt/format.h>

#include "heron/base/error.hpp"

namespace heron {
namespace {

void require_valid(const KnownLength& l, int width, int height) {
  if (!(l.length_mm > 0) || !std::isfinite(l.length_mm))
    fail_argument(fmt::format("calibrate: the known length must be above 0 mm, {:g} was given", l.length_mm));
  if (!is_finite(l.from) || !is_finite(l.to) || distance(l.from, l.to) < 1)
    fail_argument("calibrate: the two ends of the known length must be pixels at least 1 px apart");
  if (!(l.sigma_px >= 0) || !(l.sigma_length_mm >= 0)) fail_argument("calibrate: a sigma cannot be negative");
  if (width < 1 || height < 1) fail_argument("calibrate: the picture's size must be known; give a picture");
}

/// Relative sigma of pixels per millimetre.
double relative_sigma(const KnownLength& l) {
  return std::hypot(std::sqrt(2.0) * l.sigma_px / distance(l.from, l.to), l.sigma_length_mm / l.length_mm);
}

}  // namespace

PlaneMapping mapping_of_length(const KnownLength& l, int width, int height) {
  require_valid(l, width, height);
  const double scale = distance(l.from, l.to) / l.length_mm;
  Homography h;
  h << scale, 0, 0.5 * (width - 1), 0, -scale, 0.5 * (height - 1), 0, 0, 1;
  const double variance = std::pow(scale * relative_sigma(l), 2);
  PlaneMapping::Covariance c = PlaneMapping::Covariance::Zero();
  c(0, 0) = c(4, 4) = variance;  // both elements are one scale
  c(0, 4) = c(4, 0) = -variance;
  return PlaneMapping(h, c);
}

CameraMapping camera_of_length_at(const KnownLength& l, double distance_mm, double sigma_distance_mm,
                                  int width, int height) {
  require_valid(l, width, height);
  if (!(distance_mm > 0) || !std::isfinite(distance_mm))
    fail_argument(fmt::format("calibrate: the distance must be above 0 mm, {:g} was given", distance_mm));
  if (!(sigma_distance_mm >= 0)) fail_argument("calibrate: a sigma cannot be negative");
  const double focal = distance_mm * distance(l.from, l.to) / l.length_mm;
  CameraModel camera{{.fx = focal, .fy = focal, .cx = 0.5 * (width - 1), .cy = 0.5 * (height - 1)}, {}};
  camera.camera_from_world = {Eigen::Quaterniond(0, 1, 0, 0),
                              {0, 0, distance_mm}};  // half a turn about x: Y up, Z towards the camera
  CameraMapping::Covariance c = CameraMapping::Covariance::Zero();
  const double of_scale = std::pow(focal * relative_sigma(l), 2),
               of_distance = std::pow(focal * sigma_distance_mm / distance_mm, 2);
  c.topLeftCorner<2, 2>().setConstant(of_scale + of_distance);
  // Nobody knows where the axis meets the picture; but the middle of the picture is zero, wherever it does.
  const double of_axis = std::pow(0.02 * width, 2), mm = distance_mm / focal;
  for (const int k : {2, 3}) {
    c(k, k) = of_axis;
    c(k + 10, k + 10) = of_axis * mm * mm;
    c(k, k + 10) = c(k + 10, k) = -of_axis * mm;
  }
  // A distance that is wrong makes the focal length wrong in the same proportion.
  c(14, 14) = sigma_distance_mm * sigma_distance_mm;
  for (const int k : {0, 1})
    c(k, 14) = c(14, k) = focal / distance_mm * sigma_distance_mm * sigma_distance_mm;
  return CameraMapping(camera, c);
}

}  // namespace heron
