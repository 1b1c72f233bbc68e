#include "heron/image/region.hpp"

#include <fmt/format.h>

#include <limits>

namespace heron {
namespace {

void require_size(const char* what, double value) {
  if (!(std::isfinite(value) && value > 0))
    fail_argument(fmt::format("region: {} is {}; it must be a positive number of pixels", what, value));
}

void require_place(Point2 p) {
  if (!is_finite(p)) fail_argument("region: its place must be finite numbers");
}

}  // namespace

Region Region::of(Shape shape) {
  Region region;
  region.steps_.push_back({std::move(shape), true});
  return region;
}

Region Region::rectangle(const Box& box) { return rectangle(box.centre(), box.width, box.height, {}); }

Region Region::rectangle(Point2 centre, double width, double height, Angle turned) {
  require_place(centre);
  require_size("width", width);
  require_size("height", height);
  return of(Rectangle{centre, width / 2, height / 2, turned});
}

Region Region::ellipse(Point2 centre, double radius_x, double radius_y, Angle turned) {
  require_place(centre);
  require_size("radius x", radius_x);
  require_size("radius y", radius_y);
  return of(Ellipse{centre, radius_x, radius_y, turned});
}

Region Region::polygon(std::vector<Point2> corners) {
  if (corners.size() < 3)
    fail_argument(fmt::format("region: a polygon of {} corners; it needs three or more", corners.size()));
  for (Point2 p : corners) require_place(p);
  return of(Polygon{std::move(corners)});
}

Region Region::ring(Point2 centre, double inner_radius, double outer_radius) {
  require_place(centre);
  require_size("outer radius", outer_radius);
  if (!(inner_radius >= 0 && inner_radius < outer_radius))
    fail_argument(fmt::format("region: inner radius {} must be from 0 to below the outer radius {}",
                              inner_radius, outer_radius));
  return of(Ring{centre, inner_radius, outer_radius});
}

Region& Region::add(const Region& other) {
  const std::vector<Step> steps = other.steps_;
  steps_.insert(steps_.end(), steps.begin(), steps.end());
  return *this;
}

Region& Region::subtract(const Region& other) {
  // What the other region cut out of itself is given back only where this region had it; keep that
  // exact by cutting with a region of added shapes alone.
  for (const Step& step : other.steps_)
    if (!step.adds)
      fail_argument("region: a region that has cut-outs of its own cannot be cut out of another");
  const std::vector<Step> steps = other.steps_;
  for (const Step& step : steps) steps_.push_back({step.shape, false});
  return *this;
}

bool Region::holds(const Shape& shape, Point2 p) {
  if (const auto* r = std::get_if<Rectangle>(&shape)) {
    const Point2 q = rotated(p - r->centre, -r->turned);
    return q.x >= -r->half_width && q.x < r->half_width && q.y >= -r->half_height && q.y < r->half_height;
  }
  if (const auto* e = std::get_if<Ellipse>(&shape)) {
    const Point2 q = rotated(p - e->centre, -e->turned);
    return (q.x * q.x) / (e->radius_x * e->radius_x) + (q.y * q.y) / (e->radius_y * e->radius_y) <= 1;
  }
  if (const auto* ring = std::get_if<Ring>(&shape)) {
    const double r = distance(p, ring->centre);
    return r >= ring->inner && r <= ring->outer;
  }
  bool inside = false;
  const std::vector<Point2>& c = std::get<Polygon>(shape).corners;
  for (size_t i = 0, j = c.size() - 1; i < c.size(); j = i++) {
    const bool crosses = (c[i].y > p.y) != (c[j].y > p.y);
    if (crosses && p.x < (c[j].x - c[i].x) * (p.y - c[i].y) / (c[j].y - c[i].y) + c[i].x) inside = !inside;
  }
  return inside;
}

Box Region::box_of(const Shape& shape) {
  const auto around = [](Point2 c, double hx, double hy) { return Box{c.x - hx, c.y - hy, 2 * hx, 2 * hy}; };
  if (const auto* r = std::get_if<Rectangle>(&shape)) {
    const double c = std::abs(cos(r->turned)), s = std::abs(sin(r->turned));
    return around(r->centre, c * r->half_width + s * r->half_height, s * r->half_width + c * r->half_height);
  }
  if (const auto* e = std::get_if<Ellipse>(&shape)) {
    const double c = cos(e->turned), s = sin(e->turned);
    return around(e->centre, std::hypot(c * e->radius_x, s * e->radius_y),
                  std::hypot(s * e->radius_x, c * e->radius_y));
  }
  if (const auto* ring = std::get_if<Ring>(&shape)) return around(ring->centre, ring->outer, ring->outer);
  const std::vector<Point2>& corners = std::get<Polygon>(shape).corners;
  double x0 = corners[0].x, x1 = x0, y0 = corners[0].y, y1 = y0;
  for (Point2 p : corners) {
    x0 = std::min(x0, p.x), x1 = std::max(x1, p.x);
    y0 = std::min(y0, p.y), y1 = std::max(y1, p.y);
  }
  return {x0, y0, x1 - x0, y1 - y0};
}

bool Region::contains(Point2 p) const {
  bool inside = false;
  for (const Step& step : steps_)
    if (inside != step.adds && holds(step.shape, p)) inside = step.adds;
  return inside;
}

Box Region::bounds() const {
  double x0 = std::numeric_limits<double>::infinity(), y0 = x0, x1 = -x0, y1 = -x0;
  for (const Step& step : steps_) {
    if (!step.adds) continue;
    const Box box = box_of(step.shape);
    x0 = std::min(x0, box.x), x1 = std::max(x1, box.x + box.width);
    y0 = std::min(y0, box.y), y1 = std::max(y1, box.y + box.height);
  }
  if (x0 > x1) return {};
  return {x0, y0, x1 - x0, y1 - y0};
}

std::vector<Point2> Region::corners() const {
  if (steps_.size() != 1) return {};
  if (const auto* polygon = std::get_if<Polygon>(&steps_[0].shape)) return polygon->corners;
  const auto* r = std::get_if<Rectangle>(&steps_[0].shape);
  if (!r) return {};
  std::vector<Point2> corners;
  for (const auto& [x, y] : {std::pair{-1, -1}, {1, -1}, {1, 1}, {-1, 1}})
    corners.push_back(r->centre + rotated({x * r->half_width, y * r->half_height}, r->turned));
  return corners;
}

Image<uint8_t> Region::mask(int width, int height) const {
  Image<uint8_t> mask(width, height);
  const Box box = bounds();
  const auto clipped = [](double v, int size) {
    return static_cast<int>(std::clamp(v, 0.0, static_cast<double>(size)));
  };
  const int x0 = clipped(std::floor(box.x), width), x1 = clipped(std::ceil(box.x + box.width) + 1, width);
  const int y0 = clipped(std::floor(box.y), height), y1 = clipped(std::ceil(box.y + box.height) + 1, height);
  for (int y = y0; y < y1; ++y)
    for (int x = x0; x < x1; ++x)
      if (contains({static_cast<double>(x), static_cast<double>(y)})) mask(x, y) = 255;
  return mask;
}

}  // namespace heron
