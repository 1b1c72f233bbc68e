#include "heron/draw/way_picture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "canvas.hpp"

namespace heron {
namespace {

using namespace draw;

constexpr int width = 1280, height = 800, half = 820;
constexpr Color stripe_color{0.10, 0.62, 0.60}, grid_color{1, 1, 1, 0.16};

/// Millimetres to a box of the picture, X to the right and Y up, at one scale.
struct Plan {
  Point2 low, high;
  double scale = 1;
  Point2 corner;
  Plan(const std::vector<Point2>& points, Point2 box_corner, double box_width, double box_height)
      : low(points[0]), high(points[0]) {
    for (const Point2& p : points) {
      low = {std::min(low.x, p.x), std::min(low.y, p.y)};
      high = {std::max(high.x, p.x), std::max(high.y, p.y)};
    }
    scale = std::min(box_width / std::max(high.x - low.x, 1.0), box_height / std::max(high.y - low.y, 1.0));
    corner = box_corner + Point2{0.5 * (box_width - scale * (high.x - low.x)),
                                 0.5 * (box_height + scale * (high.y - low.y))};
  }
  Point2 operator()(Point2 mm) const {
    return corner + Point2{scale * (mm.x - low.x), -scale * (mm.y - low.y)};
  }
};

void draw_plan(Canvas& canvas, const DrivenWay& way) {
  std::vector<Point2> all = way.planned_mm;
  for (const Pose2& p : way.driven) all.push_back(p.position());
  all.push_back(way.goal.position());
  const Plan plan(all, {40, 90}, half - 90, height - 240);
  std::vector<Point2> stripe, driven;
  for (const Point2& p : way.planned_mm) stripe.push_back(plan(p));
  for (size_t i = 0; i < way.driven.size(); i += 5) driven.push_back(plan(way.driven[i].position()));
  canvas.path(stripe, false, stripe_color, std::max(4.0, way.planned_width_mm * plan.scale), Stroke::solid);
  canvas.path(driven, false, {1, 1, 1}, 1.6, Stroke::dashed);
  // The door, across the axis.
  const Point2 mouth = way.goal.position(), across = rotated({0, 1}, way.goal.angle);
  canvas.line(plan(mouth - across * 150), plan(mouth + across * 150), region_color, 3);
  canvas.arrow(plan(mouth - rotated({160, 0}, way.goal.angle)), plan(mouth), axis_color, 2, Stroke::solid);
  const auto vehicle = [&](const Pose2& at, const std::string& words) {
    canvas.arrow(plan(at.position()), plan(at * Point2{110, 0}), edge_color, 2, Stroke::solid);
    canvas.ring(plan(at.position()), 5, edge_color, 2);
    canvas.label(plan(at.position()) + Point2{-10, 12}, words, edge_color, 12);
  };
  vehicle(way.driven.front(), "start");
  for (size_t i = 0; i < way.marked.size(); ++i)
    vehicle(way.driven[std::min(way.marked[i], way.driven.size() - 1)], fmt::format("{}", i + 1));
  const double bar = 500;
  const Point2 foot{40, height - 120.0};
  canvas.line(foot, foot + Point2{bar * plan.scale, 0}, region_color, 2);
  canvas.label(foot + Point2{0, 6}, "500 mm", region_color, 11);
}

/// How the tip came to the axis: along it downwards in millimetres, beside it enlarged.
void draw_approach(Canvas& canvas, const DrivenWay& way) {
  const Pose2 goal_from_world = way.goal.inverse();
  const double left = half + 20, right = width - 30, top = 90, bottom = height - 150;
  constexpr double along_mm = 250, beside_mm = 6;
  const auto place = [&](double before, double beside) {
    return Point2{0.5 * (left + right) - beside / beside_mm * 0.5 * (right - left),
                  bottom - std::clamp(before, -5.0, along_mm) / along_mm * (bottom - top)};
  };
  for (int mm = -5; mm <= 5; ++mm) canvas.line(place(0, mm), place(along_mm, mm), grid_color, 1);
  for (const double within : {-way.goal_within_mm, way.goal_within_mm})
    canvas.line(place(0, within), place(along_mm, within), unseen_color, 1.5, Stroke::dotted);
  canvas.line(place(along_mm, 0), place(0, 0), axis_color, 1.5, Stroke::dashed);
  std::vector<Point2> tip;
  double last = 0;
  for (const Pose2& p : way.driven) {
    const Point2 at = goal_from_world * (p * way.tip_mm);
    if (-at.x > along_mm || std::abs(at.y) > 0.5 * beside_mm * 2) continue;
    tip.push_back(place(-at.x, at.y));
    last = at.y;
  }
  if (tip.size() > 1) canvas.path(tip, false, edge_color, 2, Stroke::solid);
  if (!tip.empty()) {
    canvas.ring(tip.back(), 6, edge_color, 2);
    canvas.label(tip.back() + Point2{10, -24}, fmt::format("{:+.2f} mm", last), edge_color, 13);
  }
  canvas.line(place(0, -5.8), place(0, 5.8), region_color, 3);
  canvas.label({left, bottom + 8}, "the mouth of the bore; lines are 1 mm apart", region_color, 11);
  canvas.label({left, top - 46}, "the pin's tip, the last 250 mm", region_color, 13);
  canvas.label({left, top - 22},
               fmt::format("dashes: the bore's axis, dots: {:g} mm to either side", way.goal_within_mm),
               unseen_color, 11);
}

}  // namespace

Image<Rgb> draw_way(const DrivenWay& way) {
  Image<uint8_t> ground(width, height);
  for (int y = 0; y < height; ++y) std::fill_n(ground.row(y), width, uint8_t{24});
  Canvas canvas(ground);
  if (way.planned_mm.empty() || way.driven.empty()) return canvas.image();
  draw_plan(canvas, way);
  draw_approach(canvas, way);
  double y = height - 90;
  for (const std::string& words : way.words) {
    canvas.label({40, y}, words, {1, 1, 1}, 13);
    y += 26;
  }
  return canvas.image();
}

}  // namespace heron
