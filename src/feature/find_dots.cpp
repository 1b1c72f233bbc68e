#include <Eigen/LU>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "heron/feature/board_points.hpp"
#include "heron/image/components.hpp"
#include "local_threshold.hpp"
#include "point_step.hpp"

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

/// The surroundings of a dot in its own measure: d' shape d is 1 on its rim, d counted from the centre.
struct DotWindow {
  Point2 centre;
  Eigen::Matrix2d shape;

  /// First and last pixel of row `y` within `rims` rims of the centre, cut to the picture; empty when first >
  /// last.
  std::pair<int, int> span(int y, double rims, int width) const {
    const double dy = y - centre.y, b = shape(0, 1) * dy, a = shape(0, 0);
    const double inside = b * b - a * (shape(1, 1) * dy * dy - rims * rims);
    if (!(inside > 0)) return {0, -1};
    const double root = std::sqrt(inside);
    return {std::max(0, static_cast<int>(std::ceil(centre.x + (-b - root) / a))),
            std::min(width - 1, static_cast<int>(std::floor(centre.x + (-b + root) / a)))};
  }
  std::pair<int, int> rows(double rims, int height) const {
    const double reach = rims * std::sqrt(shape(0, 0) / shape.determinant());
    return {std::max(0, static_cast<int>(std::ceil(centre.y - reach))),
            std::min(height - 1, static_cast<int>(std::floor(centre.y + reach)))};
  }
};

/// Sums over a part of a row of u^k and of grey u^k, u counted from a whole pixel.
struct RowSums {
  int64_t n[3] = {0, 0, 0}, grey[4] = {0, 0, 0, 0};
  void add(const uint8_t* row, int from, int to, int zero) {
    // Within 36 pixels 32 bits hold all sums of a row.
    if (from - zero >= -36 && to - zero <= 36)
      add_as<int32_t>(row, from, to, zero);
    else
      add_as<int64_t>(row, from, to, zero);
  }

 private:
  template <class Whole>
  void add_as(const uint8_t* row, int from, int to, int zero) {
    Whole nu = 0, nuu = 0, g0 = 0, g1 = 0, g2 = 0, g3 = 0;
    for (int x = from; x <= to; ++x) {
      const Whole u = x - zero, g = row[x], gu = g * u, guu = gu * u;
      nu += u, nuu += u * u;
      g0 += g, g1 += gu, g2 += guu, g3 += guu * u;
    }
    if (from <= to) n[0] += to - from + 1;
    n[1] += nu, n[2] += nuu;
    grey[0] += g0, grey[1] += g1, grey[2] += g2, grey[3] += g3;
  }
};

/// Brightness b0 + b1 u + b2 v of the paper, from the ring between `inner` and `outer` rims; u and v are
/// counted from the pixel `zero`.
Eigen::Vector3d paper_around(const ImageView<const uint8_t>& picture, const DotWindow& window, double inner,
                             double outer, int zero_x, int zero_y) {
  Eigen::Matrix3d a = Eigen::Matrix3d::Zero();
  Eigen::Vector3d b = Eigen::Vector3d::Zero();
  const auto [top, bottom] = window.rows(outer, picture.height());
  for (int y = top; y <= bottom; ++y) {
    RowSums s;
    const auto [from, to] = window.span(y, outer, picture.width());
    const auto [first, last] = window.span(y, inner, picture.width());
    if (first > last) {
      s.add(picture.row(y), from, to, zero_x);
    } else {
      s.add(picture.row(y), from, first - 1, zero_x);
      s.add(picture.row(y), last + 1, to, zero_x);
    }
    const double n = static_cast<double>(s.n[0]), u = static_cast<double>(s.n[1]), v = y - zero_y;
    const auto g = static_cast<double>(s.grey[0]);
    a(0, 0) += n, a(0, 1) += u, a(0, 2) += n * v, a(1, 1) += static_cast<double>(s.n[2]), a(1, 2) += u * v,
        a(2, 2) += n * v * v;
    b += Eigen::Vector3d(g, static_cast<double>(s.grey[1]), g * v);
  }
  a(1, 0) = a(0, 1), a(2, 0) = a(0, 2), a(2, 1) = a(1, 2);
  return a.inverse() * b;
}

/// Sums over a dot of brightness relative to the paper, times u and v; along a row the paper's inverse is
/// taken to the second order: what is left is the cube of the share by which light changes from centre to
/// rim.
struct Relative {
  double n = 0, nu = 0, nv = 0, nuu = 0, nuv = 0, nvv = 0;
  double g = 0, gu = 0, gv = 0, guu = 0, guv = 0, gvv = 0;
};
Relative relative_to_paper(const ImageView<const uint8_t>& picture, const DotWindow& window, double rims,
                           const Eigen::Vector3d& paper, int zero_x, int zero_y) {
  Relative r;
  const auto [top, bottom] = window.rows(rims, picture.height());
  for (int y = top; y <= bottom; ++y) {
    const auto [from, to] = window.span(y, rims, picture.width());
    RowSums s;
    s.add(picture.row(y), from, to, zero_x);
    const double v = y - zero_y, here = paper[0] + paper[2] * v, e = paper[1] / here;
    const auto n = static_cast<double>(s.n[0]), u = static_cast<double>(s.n[1]),
               uu = static_cast<double>(s.n[2]);
    const auto g0 = static_cast<double>(s.grey[0]), g1 = static_cast<double>(s.grey[1]),
               g2 = static_cast<double>(s.grey[2]), g3 = static_cast<double>(s.grey[3]);
    const double g = (g0 - e * (g1 - e * g2)) / here, gu = (g1 - e * (g2 - e * g3)) / here,
                 guu = (g2 - e * g3) / here;
    r.n += n, r.nu += u, r.nv += n * v, r.nuu += uu, r.nuv += u * v, r.nvv += n * v * v;
    r.g += g, r.gu += gu, r.gv += g * v, r.guu += guu, r.guv += gu * v, r.gvv += g * v * v;
  }
  return r;
}

/// A dot with what its last step needs.
struct Refined {
  DotSeen dot;
  double xx = 0, xy = 0, yy = 0;   ///< second moments of its darkness
  double paper = 0, contrast = 0;  ///< grey levels at its centre
  Point2 slope;                    ///< of the paper
};

Refined refined_dot(const ImageView<const uint8_t>& picture, const Component& c) {
  Eigen::Matrix2d moments;
  moments << c.xx, c.xy, c.xy, c.yy;
  const double small_radius = std::sqrt(4 * std::sqrt(std::max(1e-9, moments.determinant())));
  // In rims: where the dot has surely ended, and where the paper is read to.
  const double inner = 1.12 + 2.5 / small_radius, outer = 1.45 + 3.5 / small_radius;
  Refined refined;
  DotSeen& dot = refined.dot;
  dot.centre = {c.x, c.y}, dot.radius_px = std::sqrt(c.area / std::numbers::pi);
  const DotWindow window{dot.centre, (4 * moments).inverse()};
  const int zx = static_cast<int>(std::lround(dot.centre.x)),
            zy = static_cast<int>(std::lround(dot.centre.y));
  const Eigen::Vector3d paper = paper_around(picture, window, inner, outer, zx, zy);
  const Relative core = relative_to_paper(picture, window, 0.6, paper, zx, zy);
  if (core.n < 1 || !paper.allFinite()) return refined;
  const double reflectance = core.g / core.n;  // of the dot, relative to the paper
  const Relative all = relative_to_paper(picture, window, inner, paper, zx, zy);
  // share = (paper - grey) / (paper (1 - reflectance))
  const double f = 1 / (1 - reflectance), sum = f * (all.n - all.g);
  if (!(sum > 1)) return refined;
  const Point2 mean{f * (all.nu - all.gu) / sum, f * (all.nv - all.gv) / sum};
  dot.centre = Point2{static_cast<double>(zx), static_cast<double>(zy)} + mean;
  dot.radius_px = std::sqrt(sum / std::numbers::pi);
  const double xx = f * (all.nuu - all.guu) / sum - mean.x * mean.x,
               xy = f * (all.nuv - all.guv) / sum - mean.x * mean.y,
               yy = f * (all.nvv - all.gvv) / sum - mean.y * mean.y;
  const double root = std::hypot(xx - yy, 2 * xy), trace = xx + yy;
  dot.axis_ratio = std::sqrt(std::max(0.0, trace - root) / std::max(1e-9, trace + root));
  dot.long_axis = 0.5 * std::atan2(2 * xy, xx - yy);
  refined.xx = xx, refined.xy = xy, refined.yy = yy;
  refined.paper = paper[0] + paper[1] * mean.x + paper[2] * mean.y;
  refined.contrast = refined.paper * (1 - reflectance);
  refined.slope = {paper[1], paper[2]};
  return refined;
}

/// The centroid weighs what lies far from the rim, where there is nothing but noise: one step of least
/// squares on the grey values about the rim takes half of its error away. `log_blurs` gathers how much wider
/// the edges are.
void step_on_rim(const ImageView<const uint8_t>& picture, Refined& r, double blur,
                 std::vector<double>* log_blurs) {
  Eigen::Matrix2d rim;  // four times the moments without what the blur adds is the square of the rim
  const double most = std::min(r.xx, r.yy) * 0.5, added = std::min(blur * blur, most);
  rim << r.xx - added, r.xy, r.xy, r.yy - added;
  if (!(rim.determinant() > 0) || !(r.contrast != 0)) return;
  rim *= r.dot.radius_px * r.dot.radius_px / std::sqrt(rim.determinant());  // the area is known best
  const Eigen::Matrix2d shape = rim.inverse();
  PointModel m;
  m.at = r.dot.centre;
  m.radius = static_cast<float>(std::sqrt(std::max(rim(0, 0), rim(1, 1))) + 4 * blur + 1);
  m.edge = static_cast<float>(2.65 * blur);
  m.middle = static_cast<float>(r.paper);
  m.slope_x = static_cast<float>(r.slope.x), m.slope_y = static_cast<float>(r.slope.y);
  m.contrast = static_cast<float>(r.contrast);
  m.a = static_cast<float>(shape(0, 0)), m.b = static_cast<float>(shape(0, 1)),
  m.c = static_cast<float>(shape(1, 1));
  const PointStep step = point_step(picture, m);
  if (!step.good || norm(step.shift) > 0.3) return;
  r.dot.centre += step.shift;
  if (log_blurs) log_blurs->push_back(step.log_blur);
}

}  // namespace

std::vector<DotSeen> find_dots(const ImageView<const uint8_t>& picture, int window, bool bright) {
  std::vector<Refined> refined;
  for (const Component& c : components(darker_than_around(picture, window, bright)))
    if (looks_like_ellipse(c, picture)) refined.push_back(refined_dot(picture, c));
  std::vector<double> log_blurs;
  for (size_t i = 0; i < refined.size(); i += stride_to_learn_blur(refined.size()))
    step_on_rim(picture, refined[i], usual_blur_px, &log_blurs);
  const double blur = learned_blur_px(std::move(log_blurs));
  for (Refined& r : refined) step_on_rim(picture, r, blur, nullptr);
  std::vector<DotSeen> dots;
  for (const Refined& r : refined) dots.push_back(r.dot);
  return dots;
}

}  // namespace heron
