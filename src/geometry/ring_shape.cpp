#include "heron/geometry/ring_shape.hpp"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <numbers>

#include "heron/base/error.hpp"

namespace heron {
namespace {

/// Of any two of these, however one is turned against the other, and of any and the mirror image of any, at
/// least four places differ; so do those of one word turned against itself. Found by taking each number in
/// turn that keeps this (a lexicographic code), with no run longer than five and 5 to 11 bright places.
constexpr std::array<uint16_t, RingShape::identities> words{
    0x427, 0x44b, 0x47d,  0x4bb,  0x4c5,  0x597,  0x8ed,  0x9a7,  0x9df, 0xa57,
    0xb93, 0xecf, 0x1167, 0x129b, 0x13eb, 0x157b, 0x158b, 0x16d7, 0x2d67};

constexpr double turn_of_place = 2 * std::numbers::pi / RingShape::places;

void add_arc(std::vector<Point2>& loop, double radius, double from, double to) {
  const int parts = std::max(2, static_cast<int>(std::ceil(std::abs(to - from) / 0.009)));
  for (int k = 0; k <= parts; ++k) {
    const double a = from + (to - from) * k / parts;
    loop.push_back({radius * std::cos(a), radius * std::sin(a)});
  }
}

}  // namespace

void RingShape::require_valid() const {
  if (identity < 1 || identity > identities)
    fail_argument(fmt::format("ring mark: identity {}; there are 1 to {}", identity, identities));
  if (!(diameter_mm >= 0.5 && diameter_mm <= 5000))
    fail_argument(fmt::format("ring mark: a diameter of {:g} mm; it goes from 0.5 to 5000 mm", diameter_mm));
}

bool RingShape::bright(int identity, int place) {
  return (words[static_cast<size_t>(identity - 1)] >> (place % places)) & 1;
}

std::vector<std::vector<Point2>> RingShape::loops() const {
  require_valid();
  const double radius = diameter_mm / 2;
  std::vector<Point2> rim, opening;
  add_arc(rim, radius, 0, 2 * std::numbers::pi);
  rim.pop_back();
  for (int place = places - 1; place >= 0; --place)
    add_arc(opening, radius * (bright(identity, place) ? ring_inside : teeth_inside),
            (place + 1) * turn_of_place, place * turn_of_place);
  return {rim, opening};
}

}  // namespace heron
