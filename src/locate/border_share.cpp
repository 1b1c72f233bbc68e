#include "border_share.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace heron {
namespace {

constexpr int reach = 3;   // pixels on either side of a border that blur may have mixed
constexpr int margin = 6;  // around the region: as far as colors beside its border are looked up
constexpr int block = 4;   // pixels; means are those of five by five blocks
enum Side : uint8_t { sure_out, sure_in, mixed_out, mixed_in };

/// On which side of the border each pixel of `own` (0 or 1) lies, and whether the border is within reach.
Image<uint8_t> sides_of(const Image<uint8_t>& own) {
  const int w = own.width(), h = own.height();
  Image<uint8_t> rows(w, h), result(w, h);
  // Bit 0: something clear is near along the row; bit 1: something set.
  for (int y = 0; y < h; ++y) {
    const uint8_t* row = own.row(y);
    int set = 0;  // in the window
    for (int x = 0; x < reach; ++x) set += row[x];
    for (int x = 0; x < w; ++x) {
      set += x + reach < w ? row[x + reach] : 0;
      rows(x, y) = static_cast<uint8_t>((set < 2 * reach + 1 ? 1 : 0) | (set > 0 ? 2 : 0));
      set -= x >= reach ? row[x - reach] : 0;
    }
  }
  for (int y = 0; y < h; ++y)
    for (int v = std::max(0, y - reach); v <= std::min(h - 1, y + reach); ++v)
      for (int x = 0; x < w; ++x) result(x, y) |= rows(x, v);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      result(x, y) = static_cast<uint8_t>((own(x, y) ? 1 : 0) + (result(x, y) == 3 ? 2 : 0));
  return result;
}

using Color = std::array<double, 3>;

double square_of(const Color& a, const Color& b) {
  double sum = 0;
  for (size_t i = 0; i < 3; ++i) sum += (b[i] - a[i]) * (b[i] - a[i]);
  return sum;
}

/// How far `c` lies from `a` towards `b`, times their distance squared.
double along_of(const Color& c, const Color& a, const Color& b) {
  double sum = 0;
  for (size_t i = 0; i < 3; ++i) sum += (c[i] - a[i]) * (b[i] - a[i]);
  return sum;
}

struct Mean {
  double r = 0, g = 0, b = 0, count = 0;
  void add(Rgb p) { r += p.r, g += p.g, b += p.b, ++count; }
  void operator+=(const Mean& m) { r += m.r, g += m.g, b += m.b, count += m.count; }
  Color color() const { return {r / count, g / count, b / count}; }
};

struct Both {
  Mean in, out;
  void operator+=(const Both& other) { in += other.in, out += other.out; }
};

/// The colors on both sides of a border, block by block.
class ColorsBeside {
 public:
  ColorsBeside(const ImageView<const Rgb>& picture, const Image<uint8_t>& sides, int left, int top)
      : columns_(sides.width() / block + 1),
        rows_(sides.height() / block + 1),
        single_(static_cast<size_t>(columns_ * rows_)) {
    const std::vector<uint8_t> near = near_border(sides);
    const int first_y = std::max(0, -top), end_y = std::min(sides.height(), picture.height() - top);
    const int first_x = std::max(0, -left), end_x = std::min(sides.width(), picture.width() - left);
    for (int row = 0; row < rows_; ++row)
      for (int column = 0; column < columns_; ++column) {
        if (!near[index(column, row)]) continue;
        Both& both = single_[index(column, row)];
        for (int y = std::max(first_y, row * block); y < std::min(end_y, (row + 1) * block); ++y)
          for (int x = std::max(first_x, column * block); x < std::min(end_x, (column + 1) * block); ++x)
            if (const uint8_t side = sides(x, y); side == sure_in || side == sure_out)
              (side == sure_in ? both.in : both.out).add(picture(x + left, y + top));
        inside_ += both.in;
      }
    wide_ = single_;
    for (int twice = 0; twice < 2; ++twice) {  // eight pixels are within reach, the nearer ones count more
      sum_neighbours(1, columns_, rows_);
      sum_neighbours(columns_, rows_, columns_);
    }
  }

  /// Those near pixel (x, y) of the sides; false where there are too few.
  bool at(int x, int y, Color& out, Color& in) const {
    const Both& both = wide_[index(x / block, y / block)];
    const Mean& inside = both.in.count < 3 ? inside_ : both.in;  // a corner has no inside of its own
    if (inside.count < 3 || both.out.count < 3) return false;
    out = both.out.color(), in = inside.color();
    return true;
  }

  /// By blocks two apart on one side of the border.
  void measure_unevenness(BorderShares& result) const {
    std::array<double, 2> uneven{}, by_noise{}, count{};
    for (int row = 0; row < rows_; ++row)
      for (int column = 0; column < columns_; ++column) {
        const Both& wide = wide_[index(column, row)];
        if (wide.in.count < 3 || wide.out.count < 3) continue;  // not near the border
        const Color a = wide.out.color(), b = wide.in.color();
        const double size = std::sqrt(square_of(a, b));
        if (size < 10) continue;
        for (const auto& [right, down] : {std::pair{2, 0}, {0, 2}})
          for (const size_t side : {0u, 1u}) {
            if (column + right >= columns_ || row + down >= rows_) continue;
            const Both &here = single_[index(column, row)],
                       &there = single_[index(column + right, row + down)];
            const Mean &one = side ? here.out : here.in, &two = side ? there.out : there.in;
            if (one.count < 3 || two.count < 3) continue;
            const double off = (along_of(one.color(), a, b) - along_of(two.color(), a, b)) / size;
            uneven[side] += off * off, by_noise[side] += 1 / one.count + 1 / two.count, ++count[side];
          }
      }
    for (const size_t side : {0u, 1u})
      if (count[side] > 0)
        result.uneven += uneven[side] / count[side], result.uneven_by_noise += by_noise[side] / count[side];
  }

 private:
  size_t index(int column, int row) const { return static_cast<size_t>(row * columns_ + column); }

  /// Blocks whose colors count for some mixed pixel.
  std::vector<uint8_t> near_border(const Image<uint8_t>& sides) const {
    std::vector<uint8_t> mixed(single_.size()), rows(single_.size()), near(single_.size());
    for (int y = 0; y < sides.height(); ++y)
      for (int x = 0; x < sides.width(); ++x) mixed[index(x / block, y / block)] |= sides(x, y) >> 1;
    for (int row = 0; row < rows_; ++row)
      for (int column = 0; column < columns_; ++column)
        for (int k = std::max(0, column - 2); k <= std::min(columns_ - 1, column + 2); ++k)
          rows[index(column, row)] |= mixed[index(k, row)];
    for (int row = 0; row < rows_; ++row)
      for (int k = std::max(0, row - 2); k <= std::min(rows_ - 1, row + 2); ++k)
        for (int column = 0; column < columns_; ++column) near[index(column, row)] |= rows[index(column, k)];
    return near;
  }

  /// Each block becomes the sum of itself and its neighbours along one way of the grid.
  void sum_neighbours(int stride, int along, int across) {
    const int other = stride == 1 ? columns_ : 1;
    for (int j = 0; j < across; ++j) {
      Both before, here = wide_[static_cast<size_t>(j * other)];
      for (int i = 0; i < along; ++i) {
        Both& at = wide_[static_cast<size_t>(j * other + i * stride)];
        const Both after = i + 1 < along ? wide_[static_cast<size_t>(j * other + (i + 1) * stride)] : Both{};
        at += before, at += after;
        before = here, here = after;
      }
    }
  }

  int columns_, rows_;
  std::vector<Both> single_, wide_;
  Mean inside_;  ///< near the whole border
};

void share_out(const ImageView<const Rgb>& picture, const Image<uint8_t>& sides, const ColorsBeside& colors,
               BorderShares& result) {
  double contrasts = 0, mixed = 0;
  for (int y = 0; y < sides.height(); ++y)
    for (int x = 0; x < sides.width(); ++x) {
      const uint8_t side = sides(x, y);
      float& share = result.share(x, y);
      share = side == sure_in || side == mixed_in ? 1 : 0;
      if (side == sure_in || side == sure_out) continue;
      if (!picture.holds(x + result.left, y + result.top)) {
        share = 0;
        continue;
      }
      Color out, in;
      if (!colors.at(x, y, out, in)) continue;
      const double square = square_of(out, in);
      if (square < 100) continue;
      const Rgb p = picture(x + result.left, y + result.top);
      const Color c{static_cast<double>(p.r), static_cast<double>(p.g), static_cast<double>(p.b)};
      contrasts += std::sqrt(square), ++mixed;
      share = static_cast<float>(std::clamp(along_of(c, out, in) / square, -0.3, 1.3));
    }
  result.contrast = mixed > 0 ? contrasts / mixed : 0;
}

}  // namespace

BorderShares border_shares(const ImageView<const Rgb>& picture, const Image<uint8_t>& region, int left,
                           int top) {
  const int w = region.width() + 2 * margin, h = region.height() + 2 * margin;
  BorderShares result{.share = Image<float>(w, h), .left = left - margin, .top = top - margin};
  Image<uint8_t> own(w, h);
  for (int y = 0; y < region.height(); ++y)
    for (int x = 0; x < region.width(); ++x) own(x + margin, y + margin) = region(x, y) != 0;
  // A range cuts a blurred border off where its color ends, off its middle; what is mixed lies about the
  // middle, so a second look goes from there.
  for (const bool last : {false, true}) {
    const Image<uint8_t> sides = sides_of(own);
    const ColorsBeside colors(picture, sides, result.left, result.top);
    share_out(picture, sides, colors, result);
    if (last) {
      colors.measure_unevenness(result);
    } else {
      for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) own(x, y) = result.share(x, y) >= 0.5f;
    }
  }
  return result;
}

}  // namespace heron
