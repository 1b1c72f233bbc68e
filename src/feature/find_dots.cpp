#include <Eigen/LU>

#include "heron/feature/board_points.hpp"
#include "heron/image/components.hpp"
#include "local_threshold.hpp"

namespace heron {
namespace {

bool looks_like_ellipse(const Component& c, const ImageView<const uint8_t>& picture) {
  if (c.area < 12 || c.area > 0.05 * picture.width() * picture.height()) return false;
  if (c.left < 2 || c.top < 2 || c.right > picture.width() - 3 || c.bottom > picture.height() - 3)
    return false;
  const double determinant = c.xx * c.yy - c.xy * c.xy, trace = c.xx + c.yy;
  if (determinant <= 0) return false;
  const double root = std::sqrt(std::max(0.0, trace * trace / 4 - determinant));
  const double axis_ratio = std::sqrt((trace / 2 + root) / std::max(1e-9, trace / 2 - root));
  const double filled = c.area / (4 * std::numbers::pi * std::sqrt(determinant));  // 1 for an ellipse
  return axis_ratio < 3 && filled > 0.85 && filled < 1.15;
}

/// Brightness b0 + b1 dx + b2 dy about a centre.
using BrightnessPlane = Eigen::Vector3d;

struct DotWindow {
  Point2 centre;
  Eigen::Matrix2d shape;  // inverse of four times the moments: d' shape d is 1 on the dot's rim
  double inner, outer;    // in rims: where the dot has surely ended, and where the background is read to
  int reach_x, reach_y;

  template <class Visit>
  void each(const ImageView<const uint8_t>& picture, double from, double to, const Visit& visit) const {
    const int cx = static_cast<int>(std::lround(centre.x)), cy = static_cast<int>(std::lround(centre.y));
    for (int y = std::max(0, cy - reach_y); y <= std::min(picture.height() - 1, cy + reach_y); ++y)
      for (int x = std::max(0, cx - reach_x); x <= std::min(picture.width() - 1, cx + reach_x); ++x) {
        const double dx = x - centre.x, dy = y - centre.y;
        const double rims = shape(0, 0) * dx * dx + 2 * shape(0, 1) * dx * dy + shape(1, 1) * dy * dy;
        if (rims >= from * from && rims < to * to) visit(dx, dy, static_cast<double>(picture(x, y)));
      }
  }
};

BrightnessPlane background_of(const ImageView<const uint8_t>& picture, const DotWindow& window) {
  Eigen::Matrix3d a = Eigen::Matrix3d::Zero();
  Eigen::Vector3d b = Eigen::Vector3d::Zero();
  window.each(picture, window.inner, window.outer, [&](double dx, double dy, double grey) {
    const Eigen::Vector3d j(1, dx, dy);
    a += j * j.transpose();
    b += j * grey;
  });
  return a.inverse() * b;
}

DotSeen refined_dot(const ImageView<const uint8_t>& picture, const Component& c) {
  Eigen::Matrix2d moments;
  moments << c.xx, c.xy, c.xy, c.yy;
  const double small_radius = std::sqrt(4 * std::sqrt(std::max(1e-9, moments.determinant())));
  DotWindow window{
      {c.x, c.y}, (4 * moments).inverse(), 1.12 + 2.5 / small_radius, 1.45 + 3.5 / small_radius, 0, 0};
  window.reach_x = static_cast<int>(std::ceil(2 * std::sqrt(c.xx) * window.outer)) + 1;
  window.reach_y = static_cast<int>(std::ceil(2 * std::sqrt(c.yy) * window.outer)) + 1;
  DotSeen dot{.centre = {c.x, c.y}, .radius_px = std::sqrt(c.area / std::numbers::pi)};
  for (int round = 0; round < 3; ++round) {
    window.centre = dot.centre;
    const BrightnessPlane around = background_of(picture, window);
    double dark = 0, count = 0;
    window.each(picture, 0, 0.6, [&](double dx, double dy, double grey) {
      dark += grey / (around[0] + around[1] * dx + around[2] * dy), ++count;
    });
    if (count < 1 || !around.allFinite()) return dot;
    const double reflectance = dark / count;  // of the dot, relative to the paper
    double sum = 0;
    Point2 moment;
    Eigen::Matrix2d second = Eigen::Matrix2d::Zero();
    window.each(picture, 0, window.inner, [&](double dx, double dy, double grey) {
      const double paper = around[0] + around[1] * dx + around[2] * dy,
                   share = (paper - grey) / (paper * (1 - reflectance));
      sum += share;
      moment += Point2{dx, dy} * share;
      second(0, 0) += dx * dx * share, second(0, 1) += dx * dy * share, second(1, 1) += dy * dy * share;
    });
    if (!(sum > 1)) return dot;
    dot.centre = window.centre + moment / sum;
    dot.radius_px = std::sqrt(sum / std::numbers::pi);
    const double difference = second(0, 0) - second(1, 1), root = std::hypot(difference, 2 * second(0, 1)),
                 trace = second(0, 0) + second(1, 1);
    dot.axis_ratio = std::sqrt(std::max(0.0, trace - root) / std::max(1e-9, trace + root));
    dot.long_axis = 0.5 * std::atan2(2 * second(0, 1), difference);
  }
  return dot;
}

}  // namespace

std::vector<DotSeen> find_dots(const ImageView<const uint8_t>& picture, int window, bool bright) {
  std::vector<DotSeen> dots;
  for (const Component& c : components(darker_than_around(picture, window, bright)))
    if (looks_like_ellipse(c, picture)) dots.push_back(refined_dot(picture, c));
  return dots;
}

}  // namespace heron
