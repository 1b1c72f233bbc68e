#include "heron/render/bench_station.hpp"

#include <algorithm>
#include <cmath>

namespace heron::render {
namespace {

constexpr double body = 0.68, dark = 0.12, print = 0.3;  // reflectances

}  // namespace

std::vector<Piece> pieces_of(const BenchPanel& p, const Pose2& pose) {
  const double x = 0.5 * BenchPanel::width_mm, y = 0.5 * BenchPanel::height_mm;
  std::vector<Point2> side;  // counter-clockwise from the lower left, as seen in the world
  side.push_back({-x, -y});
  if (p.chip_mm > 0) {
    const double at = 32, half = p.chip_mm;
    side.insert(side.end(), {{at - half, -y},
                             {at - 0.4 * half, -y + p.chip_mm},
                             {at + 0.5 * half, -y + 0.8 * p.chip_mm},
                             {at + half, -y}});
  }
  side.push_back({x, -y});
  side.push_back({x - BenchPanel::height_mm * std::tan(p.side_off.radians()), y});
  constexpr int bends = 24;
  const double from = side.back().x, to = -x + 16;
  for (int i = 1; i <= bends; ++i) {
    const double t = static_cast<double>(i) / bends;
    side.push_back({from + (to - from) * t, y + p.bow_mm * 4 * t * (1 - t)});
  }
  side.push_back({-x, y - 16});
  std::vector<Piece> pieces{{Outline{{side}}, pose, body}};
  for (const double sign : {-1.0, 1.0})
    pieces.push_back({rectangle(p.slot_width_mm, 40, {sign * 0.5 * p.slot_distance_mm, -8}), pose, dark});
  pieces.push_back({disc(0.5 * p.hole_mm, BenchPanel::hole_at), pose, dark});
  const Pose2 insert{BenchPanel::insert_at.x + p.insert_off.x, BenchPanel::insert_at.y + p.insert_off.y,
                     p.insert_turned};
  pieces.push_back({kite(22, 14), pose * insert, print});
  return pieces;
}

std::vector<Piece> pieces_of(const BenchTrowel& t, const Pose2& pose) {
  const double half = 0.5 * t.teeth * t.pitch_mm + 4;
  std::vector<Point2> side{{half, 24}, {-half, 24}, {-half, 0}};
  for (int i = 0; i < t.teeth; ++i) {
    if (i + 1 == t.missing) continue;
    const double middle = (i - 0.5 * (t.teeth - 1)) * t.pitch_mm + (i + 1 == t.moved ? t.moved_mm : 0);
    side.insert(side.end(), {{middle - 0.5 * t.tooth_mm, 0},
                             {middle - 0.5 * t.tooth_mm, -t.tooth_depth_mm},
                             {middle + 0.5 * t.tooth_mm, -t.tooth_depth_mm},
                             {middle + 0.5 * t.tooth_mm, 0}});
  }
  side.push_back({half, 0});
  return {{Outline{{side}}, pose, body},
          {kite(30, 12), pose * Pose2{8, 13, {}}, print},
          {disc(4, {-26, 13}), pose, dark}};
}

std::vector<Piece> pieces_of(const BenchDisc& d, const Pose2& pose) {
  std::vector<Point2> rim;
  constexpr int corners = 720;
  for (int i = 0; i < corners; ++i) {
    const Angle turn = degrees(360.0 * i / corners);
    rim.push_back(unit(turn) * (d.radius_mm + d.oval_mm * cos(turn * 2)));
  }
  const double notch = 5;
  return {{Outline{{rim}}, pose, body},
          {rectangle(2 * notch, notch, {d.radius_mm, 0}), pose * Pose2{0, 0, d.notch}, dark},
          {kite(30, 16), pose, print},
          {disc(2.5, {-17, 6}), pose, print}};
}

Point2 BenchBoard::chip_at(int index) { return {(index % 3 - 1) * pitch_mm, (0.5 - index / 3) * pitch_mm}; }

namespace {

/// A digit as on a display: of seven bars, from the top clockwise and then the middle one.
std::vector<Piece> digit_of(int digit, Point2 at, const Pose2& pose) {
  constexpr unsigned bars[] = {0b0111111, 0b0000110, 0b1011011, 0b1001111, 0b1100110,
                               0b1101101, 0b1111101, 0b0000111, 0b1111111, 0b1101111};
  constexpr double high = 0.5 * BenchBoard::digit_mm, wide = 0.55 * high, thick = 0.8;
  const Point2 places[] = {{0, high},  {wide, high / 2},   {wide, -high / 2},
                           {0, -high}, {-wide, -high / 2}, {-wide, high / 2},
                           {0, 0}};
  std::vector<Piece> pieces;
  for (unsigned i = 0; i < 7; ++i) {
    if (!(bars[digit] >> i & 1)) continue;
    const bool lies = i % 3 == 0;
    pieces.push_back(
        {rectangle(lies ? 2 * wide - thick : thick, lies ? thick : high - thick, at + places[i]), pose, 0.8});
  }
  return pieces;
}

}  // namespace

std::vector<Piece> pieces_of(const BenchBoard& b, const Pose2& pose) {
  std::vector<Piece> pieces{{rounded_rectangle(92, 66, 5), pose, 0.16},
                            {kite(8, 5), pose * Pose2{-40, 27, degrees(45)}, 0.8},
                            {disc(2, {40, -27}), pose, 0.8}};
  for (int i = 0; b.number > 0 && i < 3; ++i) {
    const int digit = b.number / (i == 0 ? 100 : i == 1 ? 10 : 1) % 10;
    const auto bars = digit_of(digit, {(i - 1) * BenchBoard::number_mm / 3, 0}, pose);
    pieces.insert(pieces.end(), bars.begin(), bars.end());
  }
  for (size_t i = 0; i < b.glazes.size(); ++i) {
    if (b.glazes[i] == Tint{0, 0, 0}) continue;
    Point2 at = BenchBoard::chip_at(static_cast<int>(i));
    if (static_cast<int>(i) + 1 == b.moved) at += b.moved_mm;
    pieces.push_back({.outline = rectangle(BenchBoard::chip_mm, BenchBoard::chip_mm, at),
                      .world_from_piece = pose,
                      .reflectance = 0.8,
                      .tint = b.glazes[i]});
  }
  return pieces;
}

}  // namespace heron::render
