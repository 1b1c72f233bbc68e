#include "fft_correlation.hpp"

#include <cmath>

namespace heron::bench {

FftCorrelation::FftCorrelation(const Image<uint8_t>& picture, const Image<uint8_t>& model)
    : width_(picture.width()),
      height_(picture.height()),
      model_width_(model.width()),
      model_height_(model.height()),
      picture_(picture) {
  const auto pixels = static_cast<size_t>(width_) * static_cast<size_t>(height_);
  const auto bins = static_cast<size_t>(height_) * static_cast<size_t>(width_ / 2 + 1);
  real_ = fftwf_alloc_real(pixels);
  spectrum_ = fftwf_alloc_complex(bins), model_spectrum_ = fftwf_alloc_complex(bins);
  forward_ = fftwf_plan_dft_r2c_2d(height_, width_, real_, spectrum_, FFTW_MEASURE);
  backward_ = fftwf_plan_dft_c2r_2d(height_, width_, spectrum_, real_, FFTW_MEASURE);
  double mean = 0;
  for (int y = 0; y < model_height_; ++y)
    for (int x = 0; x < model_width_; ++x) mean += model(x, y);
  mean /= static_cast<double>(model_width_) * model_height_;
  std::fill_n(real_, pixels, 0.0f);
  for (int y = 0; y < model_height_; ++y)
    for (int x = 0; x < model_width_; ++x) {
      const double v = model(x, y) - mean;
      real_[static_cast<size_t>(y) * static_cast<size_t>(width_) + static_cast<size_t>(x)] =
          static_cast<float>(v);
      model_norm_ += v * v;
    }
  fftwf_execute_dft_r2c(forward_, real_, model_spectrum_);
  sums_.resize(static_cast<size_t>(width_ + 1) * static_cast<size_t>(height_ + 1));
  squares_.resize(sums_.size());
}

FftCorrelation::~FftCorrelation() {
  fftwf_destroy_plan(forward_);
  fftwf_destroy_plan(backward_);
  fftwf_free(real_);
  fftwf_free(spectrum_);
  fftwf_free(model_spectrum_);
}

FftCorrelation::Peak FftCorrelation::run() {
  const auto w = static_cast<size_t>(width_), h = static_cast<size_t>(height_), iw = w + 1;
  for (size_t y = 0; y < h; ++y) {
    const uint8_t* row = picture_.row(static_cast<int>(y));
    double sum = 0, square = 0;
    for (size_t x = 0; x < w; ++x) {
      const double v = row[x];
      real_[y * w + x] = static_cast<float>(v);
      sum += v, square += v * v;
      sums_[(y + 1) * iw + x + 1] = sums_[y * iw + x + 1] + sum;
      squares_[(y + 1) * iw + x + 1] = squares_[y * iw + x + 1] + square;
    }
  }
  fftwf_execute(forward_);
  const size_t bins = h * (w / 2 + 1);
  for (size_t i = 0; i < bins; ++i) {
    const float a = spectrum_[i][0], b = spectrum_[i][1], c = model_spectrum_[i][0],
                d = model_spectrum_[i][1];
    spectrum_[i][0] = a * c + b * d, spectrum_[i][1] = b * c - a * d;
  }
  fftwf_execute(backward_);
  const double count = static_cast<double>(model_width_) * model_height_, pixels = static_cast<double>(w * h);
  Peak best{-2, 0, 0};
  const auto mw = static_cast<size_t>(model_width_), mh = static_cast<size_t>(model_height_);
  for (size_t y = 0; y + mh <= h; ++y)
    for (size_t x = 0; x + mw <= w; ++x) {
      const auto box = [&](const std::vector<double>& s) {
        return s[(y + mh) * iw + x + mw] - s[y * iw + x + mw] - s[(y + mh) * iw + x] + s[y * iw + x];
      };
      const double sum = box(sums_), spread = box(squares_) - sum * sum / count;
      if (spread < 1e-3) continue;
      const auto value = static_cast<float>(real_[y * w + x] / pixels / std::sqrt(spread * model_norm_));
      if (value > best.value) best = {value, static_cast<int>(x), static_cast<int>(y)};
    }
  return best;
}

}  // namespace heron::bench
