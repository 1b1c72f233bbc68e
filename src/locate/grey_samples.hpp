#pragma once
#include <array>
#include <vector>

#include "grey_model.hpp"

namespace heron {

/// Pixels of a picture and what the taught spline holds for each, as columns of `count` values, filled up
/// with zeros to whole vectors.
struct GreySamples {
  size_t count = 0;
  std::vector<float> x, y;           ///< in the taught picture, from the part's origin
  std::vector<float> grey;           ///< in the searched picture
  std::vector<float> value, dx, dy;  ///< of the spline
  void make_room(size_t values);
};

/// The picture's pixels that lie beside a seen edge at `pose`, and the spline under each.
void take_grey_samples(const Image<uint8_t>& picture, const GreyModel& model, const std::vector<float>& seen,
                       const Similarity2& pose, GreySamples& samples);
void take_grey_samples_plain(const Image<uint8_t>& picture, const GreyModel& model,
                             const std::vector<float>& seen, const Similarity2& pose, GreySamples& samples);

/// The columns of the least-squares problem: how x, y, angle and log scale (in the taught frame) move each
/// grey value, what gain, its two slopes and offset make of it; last the grey values themselves.
inline constexpr int grey_unknowns = 8;
inline constexpr int first_light_unknown = 4;
struct GreyColumns {
  std::array<std::vector<float>, grey_unknowns + 1> columns;
  void make_room(const GreySamples& samples);
};

/// A light that varies over the part: gain + along_x x + along_y y, with x, y in pixels from the origin.
struct GreyLight {
  float gain = 1, along_x = 0, along_y = 0;
};

/// Fills the columns for a light that is known by now; `size` makes the slopes' columns as large as the
/// others.
void fill_columns(const GreySamples& samples, const GreyLight& light, double size, GreyColumns& out);

/// What is left of the grey values after the unknowns' shares `x` are taken away.
void find_residuals(const GreyColumns& columns, const std::array<float, grey_unknowns>& x, size_t count,
                    std::vector<float>& residuals);

/// Sums over all samples after they were weighed.
struct GreyWeights {
  double sum = 0;      ///< of the weights
  double answers = 0;  ///< of how a weighted residual grows with the residual
};

/// Every column times the root of Tukey's weight, which ends at `end`; the roots are kept.
GreyWeights apply_weights(const GreyColumns& columns, const std::vector<float>& residuals, double end,
                          size_t count, GreyColumns& weighted, std::vector<float>& roots);

/// Sums of the squared roots, and of these times x, y, and x^2 + y^2.
struct GreyMoments {
  double sum = 0, x = 0, y = 0, squares = 0;
};
GreyMoments moments_of(const GreySamples& samples, const std::vector<float>& roots);

/// Sum of the products of two columns of `count` values, filled up with zeros to whole vectors.
double column_product(const float* a, const float* b, size_t count);

}  // namespace heron
