#include "heron/image/remap.hpp"
#include "image/plain_kernels.hpp"

#include <fmt/format.h>

#include <cmath>

#include "image/parallel.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "image/remap.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {

/// One row of the new picture: four neighbours of each place, weighed in 1/64. A vector reads four bytes from
/// the left neighbour on; where those may lie beyond the picture's memory, `tight` keeps to single pixels.
void remap_row(const uint8_t* HWY_RESTRICT source, int64_t stride, const uint32_t* HWY_RESTRICT place,
               const uint16_t* HWY_RESTRICT part, int width, [[maybe_unused]] bool tight, uint8_t outside,
               uint8_t* HWY_RESTRICT out) {
  namespace hn = hwy::HWY_NAMESPACE;
  int x = 0;
#if HWY_TARGET != HWY_SCALAR
  const hn::ScalableTag<int32_t> d;
  const hn::Rebind<uint16_t, decltype(d)> d16;
  const hn::Rebind<uint8_t, decltype(d)> d8;
  const auto lanes = static_cast<int>(hn::Lanes(d));
  const auto low = hn::Set(d, 0xffff), byte = hn::Set(d, 0xff), whole = hn::Set(d, 64),
             half = hn::Set(d, 2048), empty = hn::Set(d, outside);
  const auto step = hn::Set(d, static_cast<int32_t>(stride)), nowhere = hn::Set(d, -1), zero = hn::Zero(d);
  for (; !tight && x + lanes <= width; x += lanes) {
    const auto at = hn::LoadU(d, reinterpret_cast<const int32_t*>(place + x));
    const auto missing = hn::Eq(at, nowhere);
    const auto safe = hn::IfThenElse(missing, zero, at);
    const auto offset = hn::Add(hn::Mul(hn::ShiftRight<16>(safe), step), hn::And(safe, low));
    const auto fraction = hn::PromoteTo(d, hn::LoadU(d16, part + x));
    const auto fx = hn::And(fraction, byte), fy = hn::ShiftRight<8>(fraction);
    const auto upper = hn::GatherOffset(d, reinterpret_cast<const int32_t*>(source), offset);
    const auto lower = hn::GatherOffset(d, reinterpret_cast<const int32_t*>(source), hn::Add(offset, step));
    const auto row = [&](auto pixels) {
      const auto left = hn::And(pixels, byte), right = hn::And(hn::ShiftRight<8>(pixels), byte);
      return hn::Add(hn::Mul(left, hn::Sub(whole, fx)), hn::Mul(right, fx));
    };
    const auto sum = hn::Add(hn::Mul(row(upper), hn::Sub(whole, fy)), hn::Mul(row(lower), fy));
    const auto value = hn::IfThenElse(missing, empty, hn::ShiftRight<12>(hn::Add(sum, half)));
    hn::StoreU(hn::DemoteTo(d8, value), d8, out + x);
  }
#endif
  for (; x < width; ++x) {
    if (place[x] == 0xffffffffu) {
      out[x] = outside;
      continue;
    }
    const uint8_t* at = source + static_cast<int64_t>(place[x] >> 16) * stride + (place[x] & 0xffff);
    const int fx = part[x] & 0xff, fy = part[x] >> 8;
    const int upper = at[0] * (64 - fx) + at[1] * fx, lower = at[stride] * (64 - fx) + at[stride + 1] * fx;
    out[x] = static_cast<uint8_t>((upper * (64 - fy) + lower * fy + 2048) >> 12);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
namespace {

HWY_EXPORT(remap_row);

constexpr uint32_t nowhere = 0xffffffffu;
constexpr int cell = 8;

}  // namespace

Remap::Remap(int source_width, int source_height, int width, int height,
             const std::function<Point2(double, double)>& source_of, uint8_t outside)
    : source_width_(source_width),
      source_height_(source_height),
      width_(width),
      height_(height),
      outside_(outside) {
  for (const int size : {source_width, source_height, width, height})
    if (size < 2 || size > 32767)
      fail_argument(fmt::format("remap: a side of {} pixels; 2 to 32767 are possible", size));
  place_.assign(static_cast<size_t>(width) * static_cast<size_t>(height), nowhere);
  part_.assign(place_.size(), 0);
  tight_.assign(static_cast<size_t>(height), 0);
  const int columns = (width - 1) / cell + 2;
  const auto knots = [&](int y) {
    std::vector<Point2> row;
    for (int i = 0; i < columns; ++i) row.push_back(source_of(i * cell, y));
    return row;
  };
  std::vector<Point2> above = knots(0);
  for (int y0 = 0; y0 < height; y0 += cell) {
    std::vector<Point2> below = knots(y0 + cell);
    for (int y = y0; y < std::min(y0 + cell, height); ++y) {
      const double down = static_cast<double>(y - y0) / cell;
      for (int x = 0; x < width; ++x) {
        const auto i = static_cast<size_t>(x / cell);
        const double right = static_cast<double>(x % cell) / cell;
        const Point2 p = (above[i] * (1 - right) + above[i + 1] * right) * (1 - down) +
                         (below[i] * (1 - right) + below[i + 1] * right) * down;
        if (!(p.x >= 0 && p.y >= 0 && p.x <= source_width - 1 && p.y <= source_height - 1)) continue;
        const auto u = static_cast<int>(std::lround(p.x * 64)), v = static_cast<int>(std::lround(p.y * 64));
        const int px = std::min(u / 64, source_width - 2), py = std::min(v / 64, source_height - 2);
        const size_t at = static_cast<size_t>(y) * static_cast<size_t>(width) + static_cast<size_t>(x);
        place_[at] = static_cast<uint32_t>(py) << 16 | static_cast<uint32_t>(px);
        part_[at] = static_cast<uint16_t>((v - 64 * py) << 8 | (u - 64 * px));
        if (py + 2 == source_height && px + 4 > source_width) tight_[static_cast<size_t>(y)] = 1;
      }
    }
    above = std::move(below);
  }
}

void Remap::require_size(const ImageView<const uint8_t>& source) const {
  if (source.width() != source_width_ || source.height() != source_height_)
    fail_argument(fmt::format("remap: the picture has {} x {} pixels, the table was made for {} x {}",
                              source.width(), source.height(), source_width_, source_height_));
}

Image<uint8_t> Remap::apply(const ImageView<const uint8_t>& source) const {
  require_size(source);
  const bool far =
      source.stride() * static_cast<int64_t>(source.height()) >= (int64_t{1} << 31);  // offsets have 32 bits
  Image<uint8_t> out(width_, height_);
  parallel_rows(height_, 32, [&](int first, int end) {
    for (int y = first; y < end; ++y) {
      const size_t at = static_cast<size_t>(y) * static_cast<size_t>(width_);
      HWY_DYNAMIC_DISPATCH(remap_row)
      (source.row(0), source.stride(), place_.data() + at, part_.data() + at, width_,
       far || tight_[static_cast<size_t>(y)], outside_, out.row(y));
    }
  });
  return out;
}

Image<uint8_t> remap_plain(const Remap& remap, const ImageView<const uint8_t>& source) {
  remap.require_size(source);
  Image<uint8_t> out(remap.width_, remap.height_);
  for (int y = 0; y < remap.height_; ++y)
    for (int x = 0; x < remap.width_; ++x) {
      const size_t at = static_cast<size_t>(y) * static_cast<size_t>(remap.width_) + static_cast<size_t>(x);
      if (remap.place_[at] == nowhere) {
        out(x, y) = remap.outside_;
        continue;
      }
      const auto px = static_cast<int>(remap.place_[at] & 0xffff),
                 py = static_cast<int>(remap.place_[at] >> 16);
      const int fx = remap.part_[at] & 0xff, fy = remap.part_[at] >> 8;
      const int upper = source(px, py) * (64 - fx) + source(px + 1, py) * fx;
      const int lower = source(px, py + 1) * (64 - fx) + source(px + 1, py + 1) * fx;
      out(x, y) = static_cast<uint8_t>((upper * (64 - fy) + lower * fy + 2048) >> 12);
    }
  return out;
}

}  // namespace heron
#endif
