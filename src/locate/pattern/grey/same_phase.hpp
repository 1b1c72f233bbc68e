#pragma once
#include "grey_solve.hpp"
#include "heron/image/image.hpp"
#include "heron/locate/pattern.hpp"
#include "locate/edge_samples/edge_columns.hpp"

namespace heron {

/// Whether all pixels of a part of `size` pixels, at `pose`, have about the same sub-pixel offset from those
/// of its taught picture: near the taught angle and multiples of 90 degrees from it, at the taught scale.
bool share_a_phase(const Similarity2& pose, double size);

/// The common error of edges at such a pose, a sigma along x and y of the picture, in pixels. Only edges
/// along rows and columns have it, so it is weighted by their share of what is known along each axis.
/// Measured by `bench_pattern_accuracy`.
Point2 bias_of_edges(const EdgeColumns& edges, const Similarity2& pose);

/// A last step of the pose, at such a pose.
struct InstrumentStep {
  bool good = false;
  GreyVector shift = GreyVector::Zero();
  Eigen::Vector4d growth = Eigen::Vector4d::Ones();  ///< of the sigmas, as a factor on those of least squares
};

/// Memory that is reused.
struct InstrumentScratch {
  std::vector<float> x, y, turn, growth;
};

/// Makes the residuals after `step` uncorrelated with the searched picture's own smoothed slopes instead of
/// the taught surface's. Least squares has two biases that depend on the sub-pixel offset, and cancel only
/// when pixels see the edges at all offsets: a sampled surface is wrong near the Nyquist frequency, and its
/// noise is smaller between pixels than on them, which lowers the sum of squares there. The searched
/// picture's slopes share no noise with the taught surface, none with the residual of their own pixel, and
/// vanish at the Nyquist frequency (instrumental variables: Reiersoel, Ark. Mat. Astr. Fys. 32A, 1945;
/// Fuller, Measurement error models, Wiley 1987, section 2.4).
InstrumentStep instrument_step(const Image<uint8_t>& picture, const FitState& look, const GreyStep& step,
                               const Similarity2& pose, InstrumentScratch& s);

}  // namespace heron
