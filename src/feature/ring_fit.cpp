#include "ring_fit.hpp"
#include "base/tukey.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <vector>

#include "blurred_step.hpp"
#include "geometry/linear.hpp"
#include "heron/base/median.hpp"

namespace heron {
namespace {

constexpr double places_per_radian = RingShape::places / (2 * std::numbers::pi);
constexpr int parameter_count = 13;  // centre, axes, tilt, log blur, dark, contrast, two slopes
constexpr int blur_at = 8, dark_at = 9, contrast_at = 10, slope_at = 11;
using Parameters = Eigen::Matrix<double, parameter_count, 1>;
using Information = Eigen::Matrix<double, parameter_count, parameter_count>;

/// How bright the mark is at a place, 0 ring to 1 paper, and how that changes.
struct Shade {
  double value = 0, by_radius = 0, by_turn = 0, by_log_blur = 0;  // turn in radians
};

/// The blurred mark in polar coordinates. Along both coordinates an edge is the integral of a Gaussian; a
/// curved edge is moved inwards by half the squared blur over its radius, as diffusion does it to first
/// order.
class ShadedRing {
 public:
  explicit ShadedRing(int identity) {
    for (int k = 0; k < RingShape::places; ++k) bright_[k] = RingShape::bright(identity, k) ? 1 : 0;
  }

  /// `radial`, `angular`: blur along the radius (in outer radii) and along the turn (in radians); `bend`:
  /// twice how far an edge of radius 1 moves inwards.
  Shade at(double radius, double turn, double radial, double angular, double bend) const {
    const auto edge = [&](double at) { return blurred_step((radius - at + 0.5 * bend / at) / radial); };
    const auto segment = [&](double at) { return (radius - at + 0.5 * bend / at) / radial; };
    const BlurredStep outer = edge(1), upper = edge(RingShape::ring_inside),
                      lower = edge(RingShape::teeth_inside);
    Shade s;
    const double band = lower.value - upper.value;
    double open = 0, open_by_turn = 0, open_by_blur = 0;
    if (band > 1e-9) {
      const double t = turn * places_per_radian, width = angular * places_per_radian;
      const int first = static_cast<int>(std::floor(t)) - 2;
      open = bright_[(first - 1) & 15];
      for (int k = first; k < first + 6; ++k) {
        const int change = bright_[k & 15] - bright_[(k - 1) & 15];
        if (change == 0) continue;
        const double u = (t - k) / width;
        const BlurredStep e = blurred_step(u);
        open += change * e.value;
        open_by_turn += change * e.density / width * places_per_radian;
        open_by_blur -= change * u * e.density;
      }
    }
    s.value = outer.value + (1 - lower.value) + band * open;
    s.by_radius = (outer.density - lower.density + (lower.density - upper.density) * open) / radial;
    s.by_turn = band * open_by_turn;
    const double u0 = segment(1) * outer.density, u1 = segment(RingShape::ring_inside) * upper.density,
                 u2 = segment(RingShape::teeth_inside) * lower.density;
    s.by_log_blur = -u0 + u2 + (u1 - u2) * open + band * open_by_blur;
    return s;
  }

 private:
  int bright_[RingShape::places];
};

struct Grey {
  int x, y;
  double value, weight;
};

/// What one pixel should be, and how that changes with the parameters.
struct Expected {
  double value;
  Parameters by;
};

Eigen::Matrix2d axes_of(const Parameters& p) {
  Eigen::Matrix2d axes;
  axes << p[2], p[4], p[3], p[5];
  return axes;
}

class RingModel {
 public:
  RingModel(int identity, const RingPlace& start) : ring_(identity), origin_(start.centre) {
    size_ = std::sqrt(std::abs(start.axes.determinant()));
  }

  /// From now on with the quadratures below, which near the end are worth their time.
  void be_exact() { exact_ = true; }

  void set(const Parameters& p) {
    p_ = p;
    inverse_ = axes_of(p).inverse();
    blur_ = std::exp(p[blur_at]);
  }
  const Parameters& parameters() const { return p_; }

  std::optional<Eigen::Vector2d> mark_point(double x, double y) const {
    const Eigen::Vector2d q = inverse_ * Eigen::Vector2d(x - p_[0], y - p_[1]);
    const double depth = 1 - p_[6] * q[0] - p_[7] * q[1];
    if (!(depth > 0.2)) return std::nullopt;
    return q / depth;
  }

  /// Small marks bend within the width of their edges, where the shading in polar coordinates errs by some
  /// grey levels: there, half of the blur is taken by a quadrature over the pixel's surroundings.
  Expected at(double x, double y) const {
    if (!exact_) return shaded(x, y, blur_);
    if (size_ >= 40) return slanted(x, y, blur_);
    const double part = std::sqrt(0.5), reach = std::numbers::sqrt3 * part * blur_;
    Expected e{0, Parameters::Zero()};
    for (int j = -1; j <= 1; ++j)
      for (int i = -1; i <= 1; ++i)
        add(e, slanted(x + i * reach, y + j * reach, part * blur_), node_weight(i) * node_weight(j),
            {i * reach, j * reach});
    return e;
  }

 private:
  /// Of the nodes -1, 0, 1 times the square root of three sigma (Gauss, Hermite).
  static double node_weight(int node) { return node == 0 ? 2.0 / 3 : 1.0 / 6; }

  static void add(Expected& sum, const Expected& node, double weight, const Eigen::Vector2d& offset) {
    sum.value += weight * node.value, sum.by += weight * node.by;
    sum.by[blur_at] -=
        weight * offset.dot(node.by.head<2>());  // the wider the blur, the further out it looks
  }

  /// On a slanted mark the blur along the radius and that along the turn go together. What they have in
  /// common is taken by a quadrature along one line, so that the rest parts into both.
  Expected slanted(double x, double y, double blur) const {
    const Polar at = polar(x, y);
    const Eigen::Vector2d out = at.radius_by_pixel.normalized(), around = at.turn_by_pixel.normalized();
    const double common = out.dot(around);
    if (std::abs(common) < 0.02) return shaded(x, y, blur);
    const Eigen::Vector2d line = (out + std::copysign(1.0, common) * around).normalized();
    const double along = out.dot(line);
    const Eigen::Vector2d reach = line * (std::sqrt(3 * std::abs(common)) / along * blur);
    const double left = blur * std::sqrt(1 - std::abs(common));
    Expected e{0, Parameters::Zero()};
    for (int i = -1; i <= 1; ++i)
      add(e, shaded(x + i * reach[0], y + i * reach[1], left), node_weight(i), i * reach);
    return e;
  }

  /// A pixel in the mark's polar coordinates.
  struct Polar {
    Eigen::Vector2d q, mark, out, around;  ///< q: before perspective
    Eigen::Matrix2d by_pixel;
    double radius;
    Eigen::Vector2d radius_by_pixel, turn_by_pixel;
  };
  Polar polar(double x, double y) const {
    Polar a;
    a.q = inverse_ * Eigen::Vector2d(x - p_[0], y - p_[1]);
    const Eigen::Vector2d g(p_[6], p_[7]);
    const double depth = std::max(0.2, 1 - g.dot(a.q));
    a.mark = a.q / depth;
    a.by_pixel = (Eigen::Matrix2d::Identity() + a.mark * g.transpose()) / depth * inverse_;
    a.radius = std::max(1e-6, a.mark.norm());
    a.out = a.mark / a.radius, a.around = {-a.out[1], a.out[0]};
    a.radius_by_pixel = a.by_pixel.transpose() * a.out;
    a.turn_by_pixel = a.by_pixel.transpose() * a.around / a.radius;
    return a;
  }

  Expected shaded(double x, double y, double blur) const {
    const Parameters& p = p_;
    const Polar a = polar(x, y);
    const double steep = a.radius_by_pixel.norm();
    const Eigen::Vector2d tangent(-a.radius_by_pixel[1] / steep, a.radius_by_pixel[0] / steep);
    const double along = a.around.dot(a.by_pixel * tangent);
    const Shade s = ring_.at(a.radius, std::atan2(a.mark[1], a.mark[0]), blur * steep,
                             blur * a.turn_by_pixel.norm(), blur * blur * along * along);
    Expected e;
    const double dx = (x - origin_[0]) / size_, dy = (y - origin_[1]) / size_;
    const double contrast = p[contrast_at];
    e.value = p[dark_at] + contrast * s.value + p[slope_at] * dx + p[slope_at + 1] * dy;
    const Eigen::Vector2d by_m = contrast * (s.by_radius * a.out + s.by_turn * a.around / a.radius);
    const Eigen::Vector2d back = -(a.by_pixel.transpose() * by_m);
    e.by.head<2>() = back;
    e.by.segment<2>(2) = back * a.q[0];
    e.by.segment<2>(4) = back * a.q[1];
    e.by.segment<2>(6) = by_m.dot(a.mark) * a.mark;
    e.by[blur_at] = contrast * s.by_log_blur;
    e.by[dark_at] = 1, e.by[contrast_at] = s.value, e.by[slope_at] = dx, e.by[slope_at + 1] = dy;
    return e;
  }

  ShadedRing ring_;
  Eigen::Vector2d origin_;
  double size_ = 1, blur_ = 1;
  bool exact_ = false;
  Parameters p_ = Parameters::Zero();
  Eigen::Matrix2d inverse_ = Eigen::Matrix2d::Identity();
};

Parameters parameters_of(const RingFit& f) {
  Parameters p = Parameters::Zero();
  p.head<2>() = f.place.centre;
  p.segment<2>(2) = f.place.axes.col(0), p.segment<2>(4) = f.place.axes.col(1);
  p.segment<2>(6) = f.place.tilt;
  p[blur_at] = std::log(f.blur_px);
  return p;
}

/// All pixels of mark and paper near an edge, and one of sixteen elsewhere: those tell the light alone.
std::vector<Grey> pixels_of(const ImageView<const uint8_t>& picture, const RingModel& model) {
  std::vector<Grey> pixels;
  const Parameters& p = model.parameters();
  const Eigen::Matrix2d axes = axes_of(p);
  const Eigen::Vector2d reach = 1.35 * axes.rowwise().norm();
  const int x0 = static_cast<int>(p[0] - reach[0]), x1 = static_cast<int>(p[0] + reach[0]) + 1;
  const int y0 = static_cast<int>(p[1] - reach[1]), y1 = static_cast<int>(p[1] + reach[1]) + 1;
  const double radius = std::sqrt(std::abs(axes.determinant())), near = 6 / radius;
  for (int y = std::max(0, y0); y <= std::min(picture.height() - 1, y1); ++y)
    for (int x = std::max(0, x0); x <= std::min(picture.width() - 1, x1); ++x) {
      const auto m = model.mark_point(x, y);
      if (!m) continue;
      const double r = m->norm();
      if (r > 1.22) continue;
      bool edge = std::abs(r - 1) < near;
      if (r < RingShape::ring_inside + near && r > RingShape::teeth_inside - near) {
        const double t = std::atan2((*m)[1], (*m)[0]) * places_per_radian;
        edge = edge || std::abs(r - RingShape::ring_inside) < near ||
               std::abs(r - RingShape::teeth_inside) < near ||
               std::abs(t - std::round(t)) / places_per_radian * r < near;
      }
      if (edge || (x % 4 == 0 && y % 4 == 0)) pixels.push_back({x, y, static_cast<double>(picture(x, y)), 1});
    }
  return pixels;
}

/// GreyNormal equations of all parameters, and what is left at each pixel.
struct GreyNormal {
  Information information = Information::Zero();
  Parameters gradient = Parameters::Zero();
  double squares = 0, weights = 0;
  std::vector<double> left;
};

GreyNormal grey_normal_of(const RingModel& model, const std::vector<Grey>& pixels) {
  GreyNormal n;
  n.left.reserve(pixels.size());
  for (const Grey& g : pixels) {
    const Expected e = model.at(g.x, g.y);
    const double r = g.value - e.value;
    n.left.push_back(r);
    if (g.weight == 0) continue;
    n.information.template selfadjointView<Eigen::Lower>().rankUpdate(e.by, g.weight);
    n.gradient += g.weight * r * e.by;
    n.squares += g.weight * r * r;
    n.weights += g.weight;
  }
  n.information = Information(n.information.template selfadjointView<Eigen::Lower>());
  return n;
}

/// Tukey's weights about the median of what is left.
void reweigh(const std::vector<double>& left, std::vector<Grey>& pixels) {
  std::vector<double> sizes = left;
  const double limit = 6 * 1.4826 * std::max(0.6, median_size(sizes));
  for (size_t i = 0; i < pixels.size(); ++i) pixels[i].weight = tukey_weight(left[i] / limit);
}

/// Of the pixels with what is expected of them.
double correlation_of(const std::vector<double>& left, const std::vector<Grey>& pixels) {
  double n = 0, a = 0, b = 0, aa = 0, bb = 0, ab = 0;
  for (size_t i = 0; i < pixels.size(); ++i) {
    const double v = pixels[i].value, e = v - left[i];
    n += 1, a += e, b += v, aa += e * e, bb += v * v, ab += e * v;
  }
  const double va = aa - a * a / n, vb = bb - b * b / n;
  return va > 0 && vb > 0 ? (ab - a * b / n) / std::sqrt(va * vb) : 0;
}

/// A fit under way: Gauss-Newton on the free parameters, round by round.
class Fitting {
 public:
  Fitting(const ImageView<const uint8_t>& picture, int identity, const RingFit& start, bool perspective)
      : model_(identity, start.place),
        start_(start.place.centre),
        size_(std::sqrt(std::abs(start.place.axes.determinant()))) {
    model_.set(parameters_of(start));
    pixels_ = pixels_of(picture, model_);
    for (int k = 0; k < parameter_count; ++k)
      if (perspective || (k != 6 && k != 7)) free_.push_back(k);
  }

  bool enough_pixels() const { return pixels_.size() >= 60; }
  void be_exact() { model_.be_exact(); }
  void look(bool weigh) {
    now_ = grey_normal_of(model_, pixels_);
    if (weigh) reweigh(now_.left, pixels_);
  }

  /// The light alone: it is linear, and the rest would be led astray without it.
  void fit_light() {
    look(false);
    Parameters p = model_.parameters();
    p.tail<4>() += solve_symmetric(now_.information.bottomRightCorner<4, 4>(), now_.gradient.tail<4>());
    model_.set(p);
  }

  /// One round on what `look` saw: how far the mark's rim moved, in pixels; nothing when the mark is lost.
  std::optional<double> step() {
    auto [a, b] = reduced();
    a.diagonal() *= 1 + 1e-9;
    const Eigen::VectorXd free_change = solve_symmetric(a, b);
    if (!free_change.allFinite()) return std::nullopt;
    Parameters change = Parameters::Zero();
    for (size_t i = 0; i < free_.size(); ++i) change[free_[i]] = free_change[static_cast<Eigen::Index>(i)];
    // Far from the end the picture is no longer straight in the parameters; keep steps within an edge's
    // reach.
    const double far =
        std::max({change.head<6>().cwiseAbs().maxCoeff() / std::max(1.0, 0.08 * size_),
                  change.segment<2>(6).cwiseAbs().maxCoeff() / 0.1, std::abs(change[blur_at]) / 0.4, 1.0});
    change.head<9>() /= far;
    Parameters p = model_.parameters() + change;
    p[blur_at] = std::clamp(p[blur_at], std::log(0.3), std::log(std::max(0.4, 0.3 * size_)));
    const double grown = std::sqrt(std::abs(axes_of(p).determinant())) / size_;
    if (!p.allFinite() || !(grown > 0.7 && grown < 1.4) || (p.head<2>() - start_).norm() > 0.4 * size_)
      return std::nullopt;
    model_.set(p);
    return change.head<6>().cwiseAbs().maxCoeff();
  }

  /// With the sums of the last look: what moved since is a thousandth of a pixel or so.
  std::optional<RingFit> result() const {
    const auto inverse = inverse_symmetric(reduced().first);
    if (!inverse) return std::nullopt;
    const Parameters& p = model_.parameters();
    RingFit f;
    f.place = {p.head<2>(), axes_of(p), p.segment<2>(6)};
    f.blur_px = std::exp(p[blur_at]);
    f.contrast = p[contrast_at];
    const double left = now_.squares / std::max(1.0, now_.weights - static_cast<double>(free_.size()));
    // Rounding to whole grey levels is noise too, even where it seems to leave nothing.
    f.noise = std::sqrt(std::max(left, 1.0 / 12));
    f.correlation = correlation_of(now_.left, pixels_);
    for (size_t i = 0; i < free_.size(); ++i)
      for (size_t j = 0; j < free_.size(); ++j)
        if (free_[i] < 8 && free_[j] < 8)
          f.covariance(free_[i], free_[j]) =
              (*inverse)(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j)) * f.noise * f.noise;
    return f;
  }

 private:
  /// The normal equations of the free parameters.
  std::pair<Eigen::MatrixXd, Eigen::VectorXd> reduced() const {
    Eigen::MatrixXd a(free_.size(), free_.size());
    Eigen::VectorXd b(free_.size());
    for (size_t i = 0; i < free_.size(); ++i) {
      b[static_cast<Eigen::Index>(i)] = now_.gradient[free_[i]];
      for (size_t j = 0; j < free_.size(); ++j)
        a(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j)) = now_.information(free_[i], free_[j]);
    }
    return {a, b};
  }

  RingModel model_;
  Eigen::Vector2d start_;
  double size_;
  std::vector<Grey> pixels_;
  std::vector<int> free_;
  GreyNormal now_;
};

}  // namespace

std::optional<RingFit> fit_ring(const ImageView<const uint8_t>& picture, int identity, const RingFit& start,
                                bool perspective) {
  Fitting fitting(picture, identity, start, perspective);
  if (!fitting.enough_pixels()) return std::nullopt;
  fitting.fit_light();
  // Weights make sense only near the end; with perspective the start is already near.
  const int unweighted = perspective ? 0 : 3, least = perspective ? 2 : 5, most = 30;
  if (perspective) fitting.look(true);
  for (int round = 0; round < most; ++round) {
    fitting.look(round >= unweighted);
    const auto moved = fitting.step();
    if (!moved) return std::nullopt;
    if (*moved < 5e-3 && round + 1 >= least) break;
  }
  if (perspective) {
    fitting.be_exact();
    for (int round = 0; round < 2; ++round) {  // from so near, two rounds end at noise
      fitting.look(true);
      if (!fitting.step()) return std::nullopt;
    }
  }
  return fitting.result();
}

}  // namespace heron
