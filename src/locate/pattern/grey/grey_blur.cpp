#include "grey_blur.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <vector>

namespace heron {
namespace {

/// Of three taps, so many times one after the other: near a Gaussian, and of exactly that variance.
struct Taps {
  explicit Taps(double variance)
      : times(std::max(1, static_cast<int>(std::ceil(variance / 0.25)))),
        beside(static_cast<float>(variance / times / 2)),
        middle(1 - 2 * beside) {}
  /// Of a wave of so many radians a pixel, what is left.
  double passed(double frequency) const {
    return std::pow(static_cast<double>(middle) + 2 * static_cast<double>(beside) * std::cos(frequency),
                    times);
  }
  int times;
  float beside, middle;
};

constexpr int frequencies = 32;
double frequency_of(int i) { return std::numbers::pi * (i + 0.5) / frequencies; }

/// `out` of lines beside each other; at the ends they repeat.
void add_up(const Taps& t, const float* before, const float* here, const float* after, int count,
            float* out) {
  for (int i = 0; i < count; ++i) out[i] = t.middle * here[i] + t.beside * (before[i] + after[i]);
}

}  // namespace

void blur(const Image<float>& coefficients, double variance, Image<float>& blurred) {
  const int w = coefficients.width(), h = coefficients.height();
  const Taps taps(variance);
  if (blurred.width() != w || blurred.height() != h) blurred = Image<float>(w, h);
  std::vector<float> line(static_cast<size_t>(w) + 2), above(static_cast<size_t>(w)), here(above);
  for (int y = 0; y < h; ++y) {
    float* row = blurred.row(y);
    std::copy_n(coefficients.row(y), w, row);
    for (int i = 0; i < taps.times; ++i) {
      std::copy_n(row, w, line.begin() + 1);
      line.front() = row[0], line.back() = row[w - 1];
      add_up(taps, line.data(), line.data() + 1, line.data() + 2, w, row);
    }
  }
  for (int i = 0; i < taps.times; ++i) {
    std::copy_n(blurred.row(0), w, above.begin());
    for (int y = 0; y < h; ++y) {
      float* row = blurred.row(y);
      std::copy_n(row, w, here.begin());
      add_up(taps, above.data(), here.data(), y + 1 < h ? blurred.row(y + 1) : here.data(), w, row);
      std::swap(above, here);
    }
  }
}

double slope_noise_left(double variance) {
  const Taps taps(variance);
  double slope = 0, slope_left = 0, value_left = 0;
  for (int i = 0; i < frequencies; ++i) {
    const double frequency = frequency_of(i), left = std::pow(taps.passed(frequency), 2);
    slope += frequency * frequency, slope_left += frequency * frequency * left, value_left += left;
  }
  return value_left / frequencies * slope_left / slope;
}

double noise_behind(double variance, double other_variance) {
  const Taps taps(variance), others(other_variance);
  double sum = 0;
  for (int i = 0; i < frequencies; ++i) {
    const double f = frequency_of(i);
    // The samples of the cubic B-spline and those of its square's (of order seven) tell how the spline passes
    // a frequency, together with those that look the same at whole pixels.
    const double cubic = (4 + 2 * std::cos(f)) / 6,
                 seventh = (2416 + 2382 * std::cos(f) + 240 * std::cos(2 * f) + 2 * std::cos(3 * f)) / 5040;
    sum += seventh / (cubic * cubic) * taps.passed(f) * others.passed(f);
  }
  return std::pow(sum / frequencies, 2);  // across and down alike
}

}  // namespace heron
