#pragma once
#include <cstdint>
#include <vector>

#include "grey_model.hpp"

namespace heron {

/// Pixels of a picture, picked one by one: a bit for each pixel of some rows and of some 64 columns at a
/// time, which begin at a multiple of 64.
class PickedPixels {
 public:
  /// None, out of pixels whose columns and rows lie between these, both included; they may lie outside a
  /// picture.
  void clear(int left, int top, int right, int bottom);
  /// Those that lie in the spots of edges whose `seen` is above 0, at a pose. Their middles are kept to
  /// quarters of a pixel, and no spot is wider than some fifty pixels. All must lie inside.
  void pick(const GreySpots& spots, const std::vector<float>& seen, const Similarity2& pose,
            double wider = 0);

  int top() const { return top_; }
  int end_row() const { return top_ + rows_; }
  int first_word() const { return first_word_; }
  int end_word() const { return first_word_ + words_; }
  /// Of the columns from 64 times `word` on, in one row; the first column is the lowest bit.
  uint64_t at(int word, int row) const {
    return bits_[static_cast<size_t>((row - top_) * words_ + word - first_word_)];
  }

 private:
  int top_ = 0, rows_ = 0, first_word_ = 0, words_ = 0;
  std::vector<uint64_t> bits_;
  std::vector<int32_t> middles_;  ///< of spots, in quarters of a pixel
};

}  // namespace heron
