#pragma once
#include <Eigen/Core>
#include <array>
#include <cmath>
#include <vector>

#include "grey_samples.hpp"

namespace heron {

/// The unknowns of a grey fit: shift along x and y, turn and log scale in the taught frame, then changes of
/// gain, of its two slopes (times the part's size, so that they are as large as the others) and of the
/// offset.
inline constexpr size_t grey_unknowns = 8, first_light_unknown = 4;

/// What light makes of the taught values: (gain + along_x x + along_y y) value + offset, with x, y in pixels
/// from the part's origin; and the gain bends a little (`GreyProblem::bend`).
struct GreyLight {
  double gain = 1, along_x = 0, along_y = 0, offset = 0;
};

/// Everything that a least-squares step reads of the samples: how each unknown moves a grey value under
/// `light`, and what is left of the value.
struct GreyProblem {
  const GreySamples& samples;
  GreyLight light;
  double size = 1;         ///< of the part, pixels
  Point2 middle = {0, 0};  ///< of the part, from its origin

  /// Whether light falls off so steeply over the part, beside the taught picture's, that how the ratio of the
  /// two bends can be determined from the grey values.
  bool falls_steeply() const {
    constexpr double steep = 0.13;  // of the gain, from the part's middle to its corners
    return size * std::hypot(light.along_x, light.along_y) >= steep * std::abs(gain_in_the_middle());
  }
  /// Where it cannot, the slope u is divided evenly, as neither picture is known to be the one lit
  /// unevenly: (1 + u / 2) / (1 - u / 2) bends by u^2 / 2. This, times the square of how far the gain is from
  /// that in the middle.
  double bend() const { return falls_steeply() ? 0 : 0.5 / gain_in_the_middle(); }
  double slope_to_the_middle() const { return light.along_x * middle.x + light.along_y * middle.y; }
  double gain_in_the_middle() const { return light.gain + slope_to_the_middle(); }
};

/// What each unknown moves a grey value by.
using GreyStep = std::array<double, grey_unknowns>;

/// Sums of the products of every two of the unknowns' columns and, last, what is left: rows of the upper
/// triangle.
inline constexpr size_t grey_columns = grey_unknowns + 1;
using GreyProducts = std::array<double, grey_columns*(grey_columns + 1) / 2>;

/// Over all samples. Cost: some two nanoseconds a sample.
GreyProducts grey_products(const GreyProblem& problem);
GreyProducts grey_products_plain(const GreyProblem& problem);

/// What is left after a step of about `most` samples, spread over all.
void some_residuals(const GreyProblem& problem, const GreyStep& step, size_t most,
                    std::vector<float>& residuals);

/// Sums over all samples after they were weighed.
struct GreyWeights {
  double sum = 0;                    ///< of the weights
  double psi_derivative_sum = 0;     ///< of how a weighted residual grows with the residual
  double x = 0, y = 0, squares = 0;  ///< of the weights times x, y, and x^2 + y^2
  GreyProducts products{};
};

/// Tukey's weights, which end at `end`, of what is left after a step; their roots are kept. Cost: some two
/// nanoseconds a sample.
GreyWeights weigh(const GreyProblem& problem, const GreyStep& step, double end, std::vector<float>& roots);
GreyWeights weigh_plain(const GreyProblem& problem, const GreyStep& step, double end,
                        std::vector<float>& roots);

/// How up to three further columns, one value a sample and zeros behind the last, answer to what a step
/// leaves, with the weights' roots. Cost: as `weigh`.
inline constexpr size_t max_further = 3;
using FurtherColumns = std::array<const float*, max_further>;  ///< null where there is none
struct ExtraRegressors {
  Eigen::Matrix<double, max_further, grey_unknowns> with = {};  ///< products with the unknowns' columns
  Eigen::Matrix<double, max_further, max_further> own = {};     ///< with each other
  Eigen::Matrix<double, max_further, 1> left = {};              ///< with what is left
};
ExtraRegressors find_further(const GreyProblem& problem, const GreyStep& step,
                             const std::vector<float>& roots, const FurtherColumns& columns);
ExtraRegressors find_further_plain(const GreyProblem& problem, const GreyStep& step,
                                   const std::vector<float>& roots, const FurtherColumns& columns);

/// Square cells of a part, in rows from its taught picture's first pixel.
struct GreyCells {
  Point2 origin;  ///< of the part, pixels of the taught picture
  double size;    ///< pixels
  int across, down;
};

/// What is left after a step pulls at x, y, turn and log scale, added up in each cell: times its weight and
/// the unknowns' shares by `influence`, four rows.
using GreyInfluence = std::array<double, 4 * grey_unknowns>;
using GreyPulls = std::vector<Eigen::Vector4f>;
void find_contributions(const GreyProblem& problem, const GreyStep& step, const std::vector<float>& roots,
                        const GreyInfluence& influence, const GreyCells& cells, GreyPulls& contributions);
void find_contributions_plain(const GreyProblem& problem, const GreyStep& step,
                              const std::vector<float>& roots, const GreyInfluence& influence,
                              const GreyCells& cells, GreyPulls& contributions);

}  // namespace heron
