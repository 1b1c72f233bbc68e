#pragma once
#include "heron/image/image.hpp"

namespace heron {

/// Square pixels that a surface can be sharpened by: noise grows with it.
inline constexpr double min_blur = -0.25;

/// A surface's spline coefficients as they are behind `variance` square pixels more of blur, from
/// `min_blur` to some square pixels. Cost: some tens of microseconds for a part of 200 x 150 pixels.
void blur(const Image<float>& coefficients, double variance, Image<float>& blurred);

/// How much of the mean square slope of white noise is left behind it.
double slope_noise_left(double variance);

/// The mean product of white noise of variance 1, put through the spline, behind one blur and behind another:
/// over all places between pixels. Cost: some microseconds.
double noise_behind(double variance, double other_variance);

}  // namespace heron
