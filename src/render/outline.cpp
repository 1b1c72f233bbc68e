#include "heron/render/outline.hpp"

#include <algorithm>
#include <functional>

namespace heron::render {
namespace {

constexpr double turn = 2 * std::numbers::pi;

Outline closed_curve(int points, const std::function<Point2(double t)>& at) {
  std::vector<Point2> loop;
  for (int i = 0; i < points; ++i) loop.push_back(at(static_cast<double>(i) / points));
  return {{loop}};
}

/// The leaf's midrib bends to one side; its halves have different widths.
Point2 midrib(double length, double s) {
  return {length * (s - 0.5), 0.10 * length * std::sin(std::numbers::pi * s) - 0.05 * length};
}
double half_width(double width, double s, double skew) {
  return 0.5 * width * skew * std::pow(std::sin(std::numbers::pi * std::pow(s, 0.8)), 0.8);
}

Outline strip(Point2 a, Point2 b, double width) {
  const Point2 along = (b - a) / distance(a, b), across{-along.y * width / 2, along.x * width / 2};
  return {{{a - across, b - across, b + across, a + across}}};
}

}  // namespace

Outline disc(double radius, Point2 centre) {
  return closed_curve(720, [&](double t) { return centre + unit(radians(turn * t)) * radius; });
}

Outline rectangle(double width, double height, Point2 c) {
  const double w = width / 2, h = height / 2;
  return {{{{c.x - w, c.y - h}, {c.x + w, c.y - h}, {c.x + w, c.y + h}, {c.x - w, c.y + h}}}};
}

Outline rounded_rectangle(double width, double height, double corner) {
  std::vector<Point2> loop;
  const Point2 centres[] = {{width / 2 - corner, height / 2 - corner},
                            {corner - width / 2, height / 2 - corner},
                            {corner - width / 2, corner - height / 2},
                            {width / 2 - corner, corner - height / 2}};
  for (int q = 0; q < 4; ++q)
    for (int i = 0; i <= 24; ++i) loop.push_back(centres[q] + unit(degrees(90 * q + 90.0 * i / 24)) * corner);
  return {{loop}};
}

Outline hexagon(double radius) {
  return closed_curve(6, [&](double t) { return unit(radians(turn * t)) * radius; });
}

Outline kite(double length, double width) {
  return {{{{0.62 * length, 0}, {0, width / 2}, {-0.38 * length, 0}, {0, -width / 2}}}};
}

Outline crescent(double radius, double bite) {
  const double inner = 0.85 * radius, shift = radius + inner - bite;  // centre of the biting disc on +x
  const double cut = (radius * radius + shift * shift - inner * inner) / (2 * shift);
  const double outer_half = std::acos(cut / radius), inner_half = std::acos((shift - cut) / inner);
  std::vector<Point2> loop;
  const int n = 240;
  for (int i = 0; i <= n; ++i)
    loop.push_back(unit(radians(outer_half + (turn - 2 * outer_half) * i / n)) * radius);
  for (int i = 1; i < n; ++i) {
    const double a = std::numbers::pi + inner_half - 2 * inner_half * i / n;
    loop.push_back(Point2{shift, 0} + unit(radians(a)) * inner);
  }
  return {{loop}};
}

Outline rosette(double radius, int lobes, double depth) {
  return closed_curve(720, [&](double t) {
    return unit(radians(turn * t)) * (radius - depth + depth * std::abs(std::cos(0.5 * lobes * turn * t)));
  });
}

Outline leaf(double length, double width) {
  std::vector<Point2> loop;
  const int n = 160;
  for (int i = 0; i < n; ++i) {
    const double s = static_cast<double>(i) / n;
    loop.push_back(midrib(length, s) - Point2{0, half_width(width, s, 0.8)});
  }
  for (int i = n; i > 0; --i) {
    const double s = static_cast<double>(i) / n;
    loop.push_back(midrib(length, s) + Point2{0, half_width(width, s, 1.15)});
  }
  return {{loop}};
}

Outline leaf_veins(double length, double width) {
  Outline veins;
  const auto add = [&](Point2 a, Point2 b, double w) { veins.loops.push_back(strip(a, b, w).loops[0]); };
  for (double s = 0.25; s < 0.8; s += 0.18) {
    const Point2 from = midrib(length, s);
    add(from + Point2{0.01 * length, 0.03 * width},
        from + Point2{0.11 * length, 0.7 * half_width(width, s + 0.11, 1.15)}, 0.028 * length);
    add(from + Point2{0.03 * length, -0.03 * width},
        from + Point2{0.15 * length, -0.65 * half_width(width, s + 0.15, 0.8)}, 0.022 * length);
  }
  return veins;
}

Outline mirrored(const Outline& outline) {
  Outline result = outline;
  for (auto& loop : result.loops) {
    for (Point2& p : loop) p.y = -p.y;
    std::reverse(loop.begin(), loop.end());
  }
  return result;
}

Outline scaled(const Outline& outline, double factor) {
  Outline result = outline;
  for (auto& loop : result.loops)
    for (Point2& p : loop) p = p * factor;
  return result;
}

Outline placed(const Outline& outline, const Pose2& pose) {
  Outline result = outline;
  for (auto& loop : result.loops)
    for (Point2& p : loop) p = pose * p;
  return result;
}

}  // namespace heron::render
