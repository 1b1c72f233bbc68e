#pragma once
#include "grey_solve.hpp"
#include "heron/image/image.hpp"
#include "heron/locate/pattern.hpp"

namespace heron {

/// Whether the pixels of a part `size` pixels large, at `pose`, lie on those of its taught picture with about
/// one and the same offset: near the taught angle and multiples of 90 degrees from it, at the taught scale.
bool share_a_phase(const Similarity2& pose, double size);

/// How far places of edges, found between pixels that all see them alike, pull a pose at such a place aside:
/// the sigma along x and y of the picture, pixels. Only edges along rows and columns err together; their part
/// in what is known along each axis counts. Measured by `bench_pattern_accuracy`.
Point2 pull_of_edges(const EdgeColumns& edges, const Similarity2& pose);

/// A step of the pose that pixels of one phase do not pull aside.
struct InstrumentStep {
  bool good = false;
  GreyVector shift = GreyVector::Zero();
  Eigen::Vector4d growth = Eigen::Vector4d::Ones();  ///< of the sigmas, beside those of least squares
};

/// Memory that is kept.
struct InstrumentScratch {
  std::vector<float> x, y, turn, growth;
};

/// What is left after `step` is made uncorrelated with the searched picture's own slopes, smoothed, instead
/// of with the taught surface's. Least squares lets two things pull a pose towards whole pixels, which cancel
/// only where a part's pixels see its edges at all phases: near the Nyquist frequency a sampled surface is
/// not the one that was there; and between its pixels its noise is smaller than on them, so the sum of
/// squares is as well. The picture's slopes share no noise with the taught surface, none with the very pixel
/// they belong to, and end at the Nyquist frequency (method of instrumental variables: Reiersoel, Ark. Mat.
/// Astr. Fys. 32A, 1945; Fuller, Measurement error models, Wiley 1987, section 2.4). Cost: some thirty
/// nanoseconds a sample.
InstrumentStep instrument_step(const Image<uint8_t>& picture, const GreyLook& look, const GreyStep& step,
                               const Similarity2& pose, InstrumentScratch& s);

}  // namespace heron
