#include "spline.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

namespace heron {
namespace {

/// The coefficients of one line, in place.
void spline_filter(std::vector<double>& line) {
  const size_t n = line.size();
  if (n < 2) return;
  const double pole = std::sqrt(3.0) - 2;
  double first = 0, power = 1;
  for (size_t i = 0; i < std::min<size_t>(n, 28); ++i) first += power * line[i], power *= pole;
  line[0] = first;
  for (size_t i = 1; i < n; ++i) line[i] += pole * line[i - 1];
  line[n - 1] = pole / (pole * pole - 1) * (line[n - 1] + pole * line[n - 2]);
  for (size_t i = n - 1; i-- > 0;) line[i] = pole * (line[i + 1] - line[i]);
  for (double& v : line) v *= 6;
}

}  // namespace

Image<float> spline_coefficients(const Image<uint8_t>& picture) {
  Image<float> c(picture.width(), picture.height());
  std::vector<double> line(static_cast<size_t>(picture.width()));
  for (int y = 0; y < c.height(); ++y) {
    for (int x = 0; x < c.width(); ++x) line[static_cast<size_t>(x)] = picture(x, y);
    spline_filter(line);
    for (int x = 0; x < c.width(); ++x) c(x, y) = static_cast<float>(line[static_cast<size_t>(x)]);
  }
  line.resize(static_cast<size_t>(picture.height()));
  for (int x = 0; x < c.width(); ++x) {
    for (int y = 0; y < c.height(); ++y) line[static_cast<size_t>(y)] = static_cast<double>(c(x, y));
    spline_filter(line);
    for (int y = 0; y < c.height(); ++y) c(x, y) = static_cast<float>(line[static_cast<size_t>(y)]);
  }
  return c;
}

double spline_value(const Image<float>& coefficients, Point2 place) {
  const double x = std::clamp(place.x, 1.0, coefficients.width() - 2.001),
               y = std::clamp(place.y, 1.0, coefficients.height() - 2.001);
  const int left = static_cast<int>(x), top = static_cast<int>(y);
  const SplineWeights across(static_cast<float>(x - left)), down(static_cast<float>(y - top));
  double value = 0;
  for (int v = 0; v < 4; ++v)
    for (int u = 0; u < 4; ++u)
      value += static_cast<double>(coefficients(left - 1 + u, top - 1 + v) * across.w[u] * down.w[v]);
  return value;
}

}  // namespace heron
