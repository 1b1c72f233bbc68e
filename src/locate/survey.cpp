#include "heron/locate/survey.hpp"

#include <array>

#include "heron/image/pyramid.hpp"

namespace heron {
namespace {

double estimated_noise(const Image<uint8_t>& picture) {
  std::array<int, 2048> counts{};
  int total = 0;
  const int step = std::max(1, picture.height() / 200);
  for (int y = 1; y + 1 < picture.height(); y += step) {
    const uint8_t *a = picture.row(y - 1), *b = picture.row(y), *c = picture.row(y + 1);
    for (int x = 1; x + 1 < picture.width(); ++x) {
      const int answer = a[x - 1] - 2 * a[x] + a[x + 1] - 2 * (b[x - 1] - 2 * b[x] + b[x + 1]) + c[x - 1] -
                         2 * c[x] + c[x + 1];
      ++counts[static_cast<size_t>(std::min(std::abs(answer), 2047))];
      ++total;
    }
  }
  int below = 0, median = 0;
  while (median < 2047 && (below += counts[static_cast<size_t>(median)]) * 2 < total) ++median;
  return 1.4826 * median / 6.0;  // the mask's weights have a root sum of squares of 6
}

}  // namespace

Survey::Survey(Image<uint8_t> picture) {
  if (picture.empty()) fail_argument("survey: the picture has no pixels");
  noise_sigma_ = estimated_noise(picture);
  levels_.push_back(std::move(picture));
  while (levels_.back().width() >= 16 && levels_.back().height() >= 16)
    levels_.push_back(halve(levels_.back()));
  for (size_t i = 0; i < levels_.size(); ++i) gradients_.push_back(std::make_unique<Lazy>());
}

const Gradients& Survey::gradients(int index) const {
  Lazy& lazy = *gradients_[static_cast<size_t>(index)];
  std::call_once(lazy.once, [&] { lazy.value = heron::gradients(level(index)); });
  return lazy.value;
}

double Survey::noise_sigma(int index) const { return std::ldexp(noise_sigma_, -index); }

}  // namespace heron
