#include "response_maps.hpp"

#include <array>
#include <bit>

#include "image/parallel.hpp"

namespace heron {
namespace {

using Bits = Image<uint16_t>;
constexpr int rows_at_once = 32;

/// One bit for the direction of every pixel whose gradient is large enough; a row more than asked for at
/// either end, which spreading needs.
Bits direction_bits(const Gradients& g, int min_size, int pad, int first, int rows) {
  const int w = g.size.width(), h = g.size.height();
  Bits bits(w + 2 * pad, rows + 2 * pad);
  std::array<uint16_t, 256> bit_of{};
  for (int d = 0; d < 256; ++d) {
    bit_of[static_cast<size_t>(d)] = static_cast<uint16_t>(1u << direction_step(d));
  }
  const int from = std::max(0, first - pad), to = std::min(h, first + rows + pad);
  parallel_rows(to - from, rows_at_once, [&](int begin, int end) {
    for (int y = from + begin; y < from + end; ++y) {
      const uint8_t *direction = g.direction.row(y), *size = g.size.row(y);
      uint16_t* out = bits.row(y - first + pad) + pad;
      for (int x = 0; x < w; ++x) out[x] = size[x] >= min_size ? bit_of[direction[x]] : uint16_t{0};
    }
  });
  return bits;
}

/// Every pixel gathers the directions of its 3 x 3 neighbourhood.
Bits spread(const Bits& bits) {
  Bits both(bits.width(), bits.height());
  const int width = bits.width();
  parallel_rows(std::max(0, bits.height() - 2), rows_at_once, [&](int begin, int end) {
    std::vector<uint16_t> down(static_cast<size_t>(width));
    for (int y = 1 + begin; y < 1 + end; ++y) {
      const uint16_t *a = bits.row(y - 1), *b = bits.row(y), *c = bits.row(y + 1);
      uint16_t *sum = down.data(), *out = both.row(y);
      for (int x = 0; x < width; ++x) sum[x] = static_cast<uint16_t>(a[x] | b[x] | c[x]);
      for (int x = 1; x + 1 < width; ++x) out[x] = static_cast<uint16_t>(sum[x - 1] | sum[x] | sum[x + 1]);
    }
  });
  return both;
}

/// How one direction is answered along a row: fully by its own bit, less by its neighbours'.
void answer_row(const uint16_t* in, uint8_t* out, int width, uint16_t same, uint16_t next, uint16_t second) {
  for (int x = 0; x < width; ++x) {
    const uint16_t b = in[x];
    const int far = (b & second) ? 1 : 0, near = (b & next) ? 3 : far;
    out[x] = static_cast<uint8_t>((b & same) ? best_response : near);
  }
}

}  // namespace

ResponseMaps response_maps(const Gradients& gradients, int min_size, int pad, int first, int rows) {
  const Bits bits = spread(direction_bits(gradients, min_size, pad, first, rows));
  ResponseMaps result{pad, {}};
  parallel_rows(direction_steps, 1, [&](int d, int) {
    auto map = Image<uint8_t>::uninitialized(bits.width(), bits.height());
    const auto turned = [d](uint16_t mask) { return std::rotl(mask, d); };
    for (int y = 0; y < bits.height(); ++y)
      answer_row(bits.row(y), map.row(y), bits.width(), turned(0x0001), turned(0x8002), turned(0x4004));
    result.maps[static_cast<size_t>(d)] = std::move(map);
  });
  return result;
}

}  // namespace heron
