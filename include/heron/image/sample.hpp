#pragma once
#include <cmath>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// True when `bilinear` may be asked at (x, y): inside the grid of pixel centres.
template <class T>
bool can_sample(const ImageView<const T>& picture, double x, double y) {
  return x >= 0 && y >= 0 && x <= picture.width() - 1 && y <= picture.height() - 1;
}

/// The same for `bilinear_inside`, which reads one pixel further.
template <class T>
bool can_sample_inside(const ImageView<const T>& picture, Point2 p) {
  return p.x >= 0 && p.y >= 0 && p.x < picture.width() - 1 && p.y < picture.height() - 1;
}

/// The brightness between pixel centres, bilinear. The caller has asked `can_sample_inside`.
template <class T>
double bilinear_inside(const ImageView<const T>& picture, double x, double y) {
  const int x0 = static_cast<int>(x), y0 = static_cast<int>(y);
  const double fx = x - x0, fy = y - y0;
  const T* p = picture.row(y0) + x0;
  const T* q = p + picture.stride();
  const double top = p[0] + fx * (static_cast<double>(p[1]) - p[0]);
  const double bottom = q[0] + fx * (static_cast<double>(q[1]) - q[0]);
  return top + fy * (bottom - top);
}

/// The brightness between pixel centres, bilinear. The caller has asked `can_sample`.
template <class T>
double bilinear(const ImageView<const T>& picture, double x, double y) {
  int x0 = static_cast<int>(x), y0 = static_cast<int>(y);
  if (x0 > 0 && x0 == picture.width() - 1) --x0;
  if (y0 > 0 && y0 == picture.height() - 1) --y0;
  const double fx = x - x0, fy = y - y0;
  const T* p = picture.row(y0) + x0;
  const std::ptrdiff_t right = picture.width() > 1 ? 1 : 0,
                       down = picture.height() > 1 ? picture.stride() : 0;
  const double top = p[0] + fx * (static_cast<double>(p[right]) - p[0]);
  const double bottom = p[down] + fx * (static_cast<double>(p[down + right]) - p[down]);
  return top + fy * (bottom - top);
}

}  // namespace heron
