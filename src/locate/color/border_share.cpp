#include "border_share.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <vector>

namespace heron {
namespace {

constexpr int reach = 3;              // pixels on either side of a border that blur may have mixed
constexpr int margin = 6;             // around the region: as far as colors beside its border are looked up
constexpr int block = 4;              // pixels; means are those of five by five blocks
constexpr uint32_t enough = 1000000;  // pixels for a mean color, which a sum of 32 bits holds
constexpr double min_square = 100;    // of the step of color, grey levels; less is no border
enum Side : uint8_t { sure_out, sure_in, mixed_out, mixed_in };

/// On which side of the border each pixel of `own` (0 or 1) lies, and whether the border is within reach.
Image<uint8_t> sides_of(const Image<uint8_t>& own) {
  const int w = own.width(), h = own.height();
  Image<uint8_t> rows(w, h), result(w, h);
  // Bit 0: something clear is near along the row; bit 1: something set.
  for (int y = 0; y < h; ++y)
    for (int k = -reach; k <= reach; ++k) {
      const uint8_t* row = own.row(y) + k;
      uint8_t* near = rows.row(y);
      const int end = std::min(w, w - k);
      for (int x = std::max(0, -k); x < end; ++x) near[x] |= static_cast<uint8_t>(1 + row[x]);
    }
  for (int y = 0; y < h; ++y) {
    uint8_t* side = result.row(y);
    for (int v = std::max(0, y - reach); v <= std::min(h - 1, y + reach); ++v) {
      const uint8_t* near = rows.row(v);
      for (int x = 0; x < w; ++x) side[x] |= near[x];
    }
    const uint8_t* row = own.row(y);
    for (int x = 0; x < w; ++x) side[x] = static_cast<uint8_t>(row[x] + (side[x] == 3 ? 2 : 0));
  }
  return result;
}

using Color = std::array<double, 3>;

double dot(const Color& a, const Color& b) { return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]; }

/// Whether blur may have mixed any of the next `block` pixels.
bool any_mixed(const uint8_t* sides) {
  uint32_t four;
  static_assert(sizeof four == block);
  std::memcpy(&four, sides, block);
  return (four & 0x02020202u) != 0;
}

struct Sums {
  uint32_t r = 0, g = 0, b = 0, count = 0;
  void add(Rgb p) { r += p.r, g += p.g, b += p.b, ++count; }
  void operator+=(const Sums& m) { r += m.r, g += m.g, b += m.b, count += m.count; }
  bool tell() const { return count >= 3; }
  Color mean() const {
    const double share = 1.0 / count;
    return {r * share, g * share, b * share};
  }
};

struct Both {
  Sums in, out;
  void operator+=(const Both& other) { in += other.in, out += other.out; }
};

/// The step from the color outside to that inside.
struct ColorStep {
  Color out{}, change{};
  double square = 0;  ///< of the change; 0 where it is not known
};

/// The colors on both sides of a border, block by block.
class ColorsBeside {
 public:
  /// By every pixel, or every `step`th each way.
  ColorsBeside(const ImageView<const Rgb>& picture, const Image<uint8_t>& sides, int left, int top, int step)
      : columns_(sides.width() / block),
        rows_((sides.height() + block - 1) / block),
        single_(static_cast<size_t>(columns_ * rows_)) {
    const std::vector<uint8_t> near = near_border(sides);
    const int first_y = std::max(0, -top), end_y = std::min(sides.height(), picture.height() - top);
    const int first_x = std::max(0, -left), end_x = std::min(sides.width(), picture.width() - left);
    for (int row = 0; row < rows_; ++row)
      for (int column = 0; column < columns_; ++column) {
        if (!near[index(column, row)]) continue;
        Both& both = single_[index(column, row)];
        for (int y = std::max(first_y, row * block); y < std::min(end_y, (row + 1) * block); y += step)
          for (int x = std::max(first_x, column * block); x < std::min(end_x, (column + 1) * block);
               x += step)
            if (const uint8_t side = sides(x, y); side == sure_in || side == sure_out)
              (side == sure_in ? both.in : both.out).add(picture(x + left, y + top));
        if (inside_.count < enough) inside_ += both.in;
        if (outside_.count < enough) outside_ += both.out;
      }
    wide_ = single_;
    for (int twice = 0; twice < 2; ++twice) {  // eight pixels are within reach, the nearer ones count more
      sum_neighbours(1, columns_, rows_);
      sum_neighbours(columns_, rows_, columns_);
    }
  }

  /// Near pixels of a block.
  ColorStep step_at(int column, int row) const {
    const Both& both = wide_[index(column, row)];
    // A corner has no inside of its own, a narrow gap no outside.
    const Sums &inside = both.in.tell() ? both.in : inside_, &outside = both.out.tell() ? both.out : outside_;
    if (!inside.tell() || !outside.tell()) return {};
    ColorStep step{.out = outside.mean(), .change = inside.mean()};
    for (size_t i = 0; i < 3; ++i) step.change[i] -= step.out[i];
    step.square = dot(step.change, step.change);
    return step;
  }

  /// By blocks two apart on one side of the border, beyond what all of them change alike: light that slopes
  /// is not uneven.
  void measure_unevenness(BorderColors& result) const {
    for (const size_t side : {0u, 1u}) {
      double uneven = 0, by_noise = 0, count = 0;
      for (const auto& [right, down] : {std::pair{2, 0}, {0, 2}}) {
        const Differences d = differences(side, right, down);
        if (d.count < 2) continue;
        uneven += (d.squares - d.sum * d.sum / d.count) * d.count / (d.count - 1);
        by_noise += d.by_noise, count += d.count;
      }
      if (count > 0) result.uneven += uneven / count, result.uneven_by_noise += by_noise / count;
    }
  }

 private:
  /// Of colors along the border's change, one way of the grid.
  struct Differences {
    double sum = 0, squares = 0, by_noise = 0, count = 0;
  };

  Differences differences(size_t side, int right, int down) const {
    Differences d;
    for (int row = 0; row + down < rows_; ++row)
      for (int column = 0; column + right < columns_; ++column) {
        const Both& wide = wide_[index(column, row)];
        if (!wide.in.tell() || !wide.out.tell()) continue;  // not near the border
        const ColorStep step = step_at(column, row);
        if (step.square < min_square) continue;
        const Both &here = single_[index(column, row)], &there = single_[index(column + right, row + down)];
        const Sums &one = side ? here.out : here.in, &two = side ? there.out : there.in;
        if (!one.tell() || !two.tell()) continue;
        const double off =
            (dot(one.mean(), step.change) - dot(two.mean(), step.change)) / std::sqrt(step.square);
        d.sum += off, d.squares += off * off;
        d.by_noise += 1.0 / one.count + 1.0 / two.count, ++d.count;
      }
    return d;
  }

  size_t index(int column, int row) const { return static_cast<size_t>(row * columns_ + column); }

  /// Blocks whose colors count for some mixed pixel.
  std::vector<uint8_t> near_border(const Image<uint8_t>& sides) const {
    std::vector<uint8_t> mixed(single_.size()), rows(single_.size()), near(single_.size());
    for (int y = 0; y < sides.height(); ++y)
      for (int column = 0; column < columns_; ++column)
        mixed[index(column, y / block)] |= any_mixed(sides.row(y) + column * block);
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
  Sums inside_, outside_;  ///< near the whole border
};

/// Row by row of `sides`, whose first pixel lies at (left, top) of the picture; returns the mean contrast.
double share_out(const ImageView<const Rgb>& picture, const Image<uint8_t>& sides, const ColorsBeside& colors,
                 int left, int top, const TakeShares& take) {
  double contrasts = 0, mixed = 0;
  const int columns = sides.width() / block;
  std::vector<ColorStep> steps(static_cast<size_t>(columns));
  std::vector<uint8_t> known(steps.size());
  std::vector<float> shares(static_cast<size_t>(sides.width()));
  for (int y = 0; y < sides.height(); ++y) {
    if (y % block == 0) std::fill(known.begin(), known.end(), uint8_t{0});
    for (int column = 0; column < columns; ++column) {
      const int from = column * block;
      const uint8_t* side = sides.row(y) + from;
      float* share = shares.data() + from;
      for (int i = 0; i < block; ++i) share[i] = side[i] & 1;
      if (!any_mixed(side)) continue;
      ColorStep& step = steps[static_cast<size_t>(column)];
      uint8_t& is_known = known[static_cast<size_t>(column)];
      if (!is_known) step = colors.step_at(column, y / block), is_known = 1;
      for (int i = 0; i < block; ++i) {
        if (side[i] < mixed_out) continue;
        if (!picture.holds(from + i + left, y + top)) {
          share[i] = 0;
          continue;
        }
        if (step.square < min_square) continue;
        const Rgb p = picture(from + i + left, y + top);
        const Color off{p.r - step.out[0], p.g - step.out[1], p.b - step.out[2]};
        contrasts += std::sqrt(step.square), ++mixed;
        share[i] = static_cast<float>(std::clamp(dot(off, step.change) / step.square, -0.3, 1.3));
      }
    }
    take(left, y + top, shares);
  }
  return mixed > 0 ? contrasts / mixed : 0;
}

}  // namespace

BorderColors border_shares(const ImageView<const Rgb>& picture, const Image<uint8_t>& region, int left,
                           int top, const TakeShares& take) {
  left -= margin, top -= margin;
  const int w = (region.width() + 2 * margin + block - 1) / block * block;  // whole blocks
  Image<uint8_t> own(w, region.height() + 2 * margin);
  for (int y = 0; y < region.height(); ++y)
    for (int x = 0; x < region.width(); ++x) own(x + margin, y + margin) = region(x, y) != 0;
  // A range cuts a blurred border off where its color ends, off its middle; what is mixed lies about the
  // middle, so a second look goes from there.
  const auto set_own = [&](int, int y, const std::vector<float>& shares) {
    uint8_t* to = own.row(y - top);
    for (size_t x = 0; x < shares.size(); ++x) to[x] = shares[x] >= 0.5f;
  };
  {
    const Image<uint8_t> sides = sides_of(own);
    share_out(picture, sides, ColorsBeside(picture, sides, left, top, 2), left, top, set_own);
  }
  const Image<uint8_t> sides = sides_of(own);
  const ColorsBeside colors(picture, sides, left, top, 1);
  BorderColors result{.contrast = share_out(picture, sides, colors, left, top, take)};
  colors.measure_unevenness(result);
  return result;
}

}  // namespace heron
