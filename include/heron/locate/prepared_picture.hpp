#pragma once
#include <memory>
#include <mutex>
#include <vector>

#include "heron/image/gradient.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// One picture prepared for finding: its pyramid at once, gradients of a level when first asked for. Made
/// once, used for any number of targets, from any number of threads.
class PreparedPicture {
 public:
  /// Takes the picture over. Cost: a third of the picture's pixels for the pyramid. Throws
  /// Error{invalid_argument} for an empty picture.
  explicit PreparedPicture(Image<uint8_t> picture);
  /// A color picture: kinds that look at color see it, the others its grey levels (ITU-R BT.601 luma).
  explicit PreparedPicture(Image<Rgb> picture);

  int width() const { return levels_[0].width(); }
  int height() const { return levels_[0].height(); }
  /// Levels there are; each halves the one below, the last is at least 8 pixels wide and high (level 0 always
  /// exists).
  int level_count() const { return static_cast<int>(levels_.size()); }
  const Image<uint8_t>& level(int index) const { return levels_[static_cast<size_t>(index)]; }
  /// The color picture, empty when it has none.
  const Image<Rgb>& color() const { return color_; }
  const Gradients& gradients(int index) const;
  /// Standard deviation of the picture's noise at a level, in grey levels: median of a Laplacian that flat
  /// and straight structure does not answer to (Immerkaer, Fast noise variance estimation, CVIU 64, 1996),
  /// halved from level to level.
  double noise_sigma(int index) const;

 private:
  struct Lazy {
    std::once_flag once;
    Gradients value;
  };
  Image<Rgb> color_;
  std::vector<Image<uint8_t>> levels_;
  std::vector<std::unique_ptr<Lazy>> gradients_;
  double noise_sigma_ = 0;
};

}  // namespace heron
