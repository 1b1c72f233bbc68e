#include "heron/locate/prepared_picture.hpp"

#include "heron/image/noise.hpp"
#include "heron/image/picture.hpp"
#include "heron/image/pyramid.hpp"
#include "image/parallel.hpp"

namespace heron {
PreparedPicture::PreparedPicture(Image<uint8_t> picture) {
  if (picture.empty()) fail_argument("prepared picture: the picture has no pixels");
  std::vector<Image<uint8_t>> smaller;
  const auto halve_again = [&] {
    for (const Image<uint8_t>* last = &picture; last->width() >= 16 && last->height() >= 16;
         last = &smaller.back())
      smaller.push_back(halve(*last));
  };
  parallel_pair(halve_again, [&] { noise_sigma_ = heron::noise_sigma(picture); });
  levels_.push_back(std::move(picture));
  std::move(smaller.begin(), smaller.end(), std::back_inserter(levels_));
  for (size_t i = 0; i < levels_.size(); ++i) gradients_.push_back(std::make_unique<Lazy>());
}

PreparedPicture::PreparedPicture(Image<Rgb> picture) : PreparedPicture(grey_levels(picture)) {
  color_ = std::move(picture);
}

const Gradients& PreparedPicture::gradients(int index) const {
  Lazy& lazy = *gradients_[static_cast<size_t>(index)];
  // A thread that waits for the others must not come here again with another target.
  std::call_once(lazy.once, [&] { parallel_alone([&] { lazy.value = heron::gradients(level(index)); }); });
  return lazy.value;
}

double PreparedPicture::noise_sigma(int index) const { return std::ldexp(noise_sigma_, -index); }

}  // namespace heron
