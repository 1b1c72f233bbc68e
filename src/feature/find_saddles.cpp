#include <Eigen/LU>
#include <array>

#include "heron/feature/board_points.hpp"
#include "heron/image/sample.hpp"
#include "heron/image/smooth.hpp"

namespace heron {
namespace {

Image<float> saddle_response(const Image<float>& p) {
  Image<float> response(p.width(), p.height());
  for (int y = 1; y + 1 < p.height(); ++y)
    for (int x = 1; x + 1 < p.width(); ++x) {
      const float xx = p(x + 1, y) - 2 * p(x, y) + p(x - 1, y), yy = p(x, y + 1) - 2 * p(x, y) + p(x, y - 1);
      const float xy = 0.25f * (p(x + 1, y + 1) - p(x - 1, y + 1) - p(x + 1, y - 1) + p(x - 1, y - 1));
      response(x, y) = xy * xy - xx * yy;
    }
  return response;
}

bool is_peak(const Image<float>& response, int x, int y, int reach) {
  const float here = response(x, y);
  for (int v = -reach; v <= reach; ++v)
    for (int u = -reach; u <= reach; ++u) {
      const float other = response(x + u, y + v);
      if (other > here || (other == here && (v < 0 || (v == 0 && u < 0)))) return false;
    }
  return true;
}

/// Around a crossing of two edges brightness changes sides four times, and opposite points are alike.
bool has_four_quarters(const Image<float>& p, Point2 at, double radius) {
  constexpr int count = 32;
  std::array<double, count> ring{};
  double mean = 0, low = 1e9, high = -1e9;
  for (int k = 0; k < count; ++k) {
    const Point2 q = at + unit(degrees(360.0 * k / count)) * radius;
    if (!can_sample(p.view(), q.x, q.y)) return false;
    const double v = bilinear(ImageView<const float>(p), q.x, q.y);
    ring[static_cast<size_t>(k)] = v;
    mean += v / count;
    low = std::min(low, v), high = std::max(high, v);
  }
  const double middle = 0.5 * (low + high), contrast = high - low;
  if (contrast < 8) return false;
  int changes = 0;
  double unlike = 0;
  for (int k = 0; k < count; ++k) {
    const double a = ring[static_cast<size_t>(k)], b = ring[static_cast<size_t>((k + 1) % count)];
    if ((a > middle) != (b > middle)) ++changes;
    unlike += std::abs(a - ring[static_cast<size_t>((k + count / 2) % count)]) / count;
  }
  return changes == 4 && unlike < 0.25 * contrast;
}

}  // namespace

std::vector<Point2> find_saddles(const ImageView<const uint8_t>& picture) {
  std::vector<Point2> found;
  constexpr int reach = 4, border = 8;
  if (picture.width() < 2 * border + 2 || picture.height() < 2 * border + 2) return found;
  const Image<float> soft = smooth(picture, 1.5), response = saddle_response(smooth(picture, 2.0));
  for (int y = border; y + border < picture.height(); ++y)
    for (int x = border; x + border < picture.width(); ++x) {
      if (response(x, y) < 1.0f || !is_peak(response, x, y, reach)) continue;
      const Point2 at{static_cast<double>(x), static_cast<double>(y)};
      if (has_four_quarters(soft, at, 5) || has_four_quarters(soft, at, 7))
        found.push_back(refine_saddle(picture, at, 5));
    }
  return found;
}

Point2 refine_saddle(const ImageView<const uint8_t>& picture, Point2 start, double radius) {
  Point2 at = start;
  const int reach = static_cast<int>(std::ceil(radius)) + 1;
  for (int round = 0; round < 8; ++round) {
    Eigen::Matrix2d a = Eigen::Matrix2d::Zero();
    Eigen::Vector2d b = Eigen::Vector2d::Zero();
    const int cx = static_cast<int>(std::lround(at.x)), cy = static_cast<int>(std::lround(at.y));
    if (cx - reach < 1 || cy - reach < 1 || cx + reach >= picture.width() - 1 ||
        cy + reach >= picture.height() - 1)
      return start;
    for (int y = cy - reach; y <= cy + reach; ++y)
      for (int x = cx - reach; x <= cx + reach; ++x) {
        const double dx = x - at.x, dy = y - at.y, far = (dx * dx + dy * dy) / (radius * radius);
        if (far >= 1) continue;
        const double weight = (1 - far) * (1 - far);
        const Eigen::Vector2d g((picture(x + 1, y - 1) + 2.0 * picture(x + 1, y) + picture(x + 1, y + 1) -
                                 picture(x - 1, y - 1) - 2.0 * picture(x - 1, y) - picture(x - 1, y + 1)) /
                                    8,
                                (picture(x - 1, y + 1) + 2.0 * picture(x, y + 1) + picture(x + 1, y + 1) -
                                 picture(x - 1, y - 1) - 2.0 * picture(x, y - 1) - picture(x + 1, y - 1)) /
                                    8);
        const Eigen::Matrix2d gg = weight * g * g.transpose();
        a += gg;
        b += gg * Eigen::Vector2d(dx, dy);
      }
    if (std::abs(a.determinant()) < 1e-9) return start;
    const Eigen::Vector2d step = a.inverse() * b;
    at += Point2{step.x(), step.y()};
    if (!(distance(at, start) < radius / 2)) return start;
    if (step.norm() < 1e-4) break;
  }
  return at;
}

}  // namespace heron
