#pragma once
#include <fftw3.h>

#include <vector>

#include "heron/image/image.hpp"

namespace heron::bench {

/// The yardstick: plain normalised cross-correlation of a picture with one template, one angle, one scale, by
/// FFT in float, unpadded, planned with FFTW_MEASURE outside the timing. `run` does the picture's forward
/// transform, the product, the inverse transform, and the local normalisation by integral pictures.
class FftCorrelation {
 public:
  FftCorrelation(const Image<uint8_t>& picture, const Image<uint8_t>& model);
  ~FftCorrelation();
  FftCorrelation(const FftCorrelation&) = delete;
  FftCorrelation& operator=(const FftCorrelation&) = delete;

  /// Best correlation, -1 to 1, and where the model's first pixel lies.
  struct Peak {
    float value;
    int x, y;
  };
  Peak run();

 private:
  int width_, height_, model_width_, model_height_;
  const Image<uint8_t>& picture_;
  float* real_;
  fftwf_complex *spectrum_, *model_spectrum_;
  fftwf_plan forward_, backward_;
  double model_norm_ = 0;
  std::vector<double> sums_, squares_;
};

}  // namespace heron::bench
