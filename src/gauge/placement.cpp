#include "placement.hpp"

#include <algorithm>
#include <cmath>

namespace heron {
namespace {

constexpr double half_step = 0.5;  // of differences, drawn units

/// Sets the pixels whose centres lie in the polygon (even-odd) to `value`. Cost: rows x corners, and the
/// pixels.
void fill_polygon(Image<uint8_t>& mask, const std::vector<Point2>& corners, uint8_t value) {
  std::vector<double> crossings;
  for (int y = 0; y < mask.height(); ++y) {
    crossings.clear();
    for (size_t i = 0; i < corners.size(); ++i) {
      const Point2 a = corners[i], b = corners[(i + 1) % corners.size()];
      if ((a.y <= y) != (b.y <= y)) crossings.push_back(a.x + (y - a.y) / (b.y - a.y) * (b.x - a.x));
    }
    std::sort(crossings.begin(), crossings.end());
    for (size_t i = 0; i + 1 < crossings.size(); i += 2) {
      const double last = mask.width() - 1;
      const int first = static_cast<int>(std::ceil(std::clamp(crossings[i], 0.0, last + 1))),
                end = static_cast<int>(std::ceil(std::clamp(crossings[i + 1], 0.0, last + 1)));
      std::fill(mask.row(y) + first, mask.row(y) + std::max(first, end), value);
    }
  }
}

}  // namespace

Placement Placement::in_world(const Mapping& mapping, const Axes* axes) {
  Placement p;
  p.motion_ = [&mapping, axes](Point2 drawn) {
    const WorldPoint world = axes ? axes->world_from_user(UserPoint(drawn)) : WorldPoint(drawn);
    return mapping.pixel_from_world(world);
  };
  return p;
}

Placement Placement::moved(const Similarity2& reference, const Similarity2& now, Follows follows) {
  Similarity2 to{.x = follows.x ? now.x : reference.x,
                 .y = follows.y ? now.y : reference.y,
                 .angle = follows.angle ? now.angle - reference.angle : Angle{},
                 .scale = follows.scale ? now.scale / reference.scale : 1};
  Placement p;
  p.motion_ = [to, from = reference.position()](Point2 drawn) { return to * (drawn - from); };
  return p;
}

Placement Placement::moved_on_plane(const Similarity2& reference, const Similarity2& now,
                                    const Mapping& mapping, double height_mm) {
  const auto pose = [&](const Similarity2& s) {
    const WorldPoint at = mapping.world_from_pixel(s.position(), height_mm);
    return Pose2{at.x, at.y, mapping.world_angle(s.position(), s.angle, height_mm).turn()};
  };
  Placement p;
  p.motion_ = [&mapping, height_mm, motion = pose(now) * pose(reference).inverse()](Point2 drawn) {
    const WorldPoint was = mapping.world_from_pixel(drawn, height_mm);
    return mapping.pixel_from_world(WorldPoint(motion * was.plain()), height_mm);
  };
  return p;
}

Placement Placement::shifted(Point2 drawn, Point2 seen) const {
  Placement p = *this;
  p.shift_ += seen - at(drawn);
  return p;
}

double Placement::scale_at(Point2 drawn) const {
  const Point2 x = at(drawn + Point2{half_step, 0}) - at(drawn - Point2{half_step, 0}),
               y = at(drawn + Point2{0, half_step}) - at(drawn - Point2{0, half_step});
  return std::sqrt(std::abs(cross(x, y))) / (2 * half_step);
}

Angle Placement::turn_at(Point2 drawn) const {
  return direction(at(drawn + Point2{half_step, 0}) - at(drawn - Point2{half_step, 0}));
}

bool Placement::mirrored_at(Point2 drawn) const {
  const Point2 o = at(drawn);
  return cross(at(drawn + Point2{half_step, 0}) - o, at(drawn + Point2{0, half_step}) - o) < 0;
}

std::vector<double> Placement::band(const std::vector<double>& drawn) const {
  const Point2 centre{drawn[0], drawn[1]}, along = unit(degrees(drawn[4])), across{-along.y, along.x};
  const Point2 from = at(centre - along * (0.5 * drawn[2])), to = at(centre + along * (0.5 * drawn[2]));
  const double width =
      distance(at(centre - across * (0.5 * drawn[3])), at(centre + across * (0.5 * drawn[3])));
  const Point2 middle = (from + to) * 0.5;
  return {middle.x, middle.y, distance(from, to), width, direction(to - from).degrees()};
}

std::vector<double> Placement::ring(const std::vector<double>& drawn) const {
  const Point2 centre{drawn[0], drawn[1]}, start = unit(degrees(drawn[4]));
  const Point2 middle = at(centre);
  const double scale = scale_at(centre);
  return {middle.x,
          middle.y,
          drawn[2] * scale,
          drawn[3] * scale,
          direction(at(centre + start) - middle).degrees(),
          mirrored_at(centre) ? -drawn[5] : drawn[5]};
}

AreaPixels pixels_of(const AreaShape& shape, const Placement& placement, int width, int height) {
  std::vector<Point2> outer, inner;
  const auto round = [&](double radius, std::vector<Point2>& to) {
    constexpr int corners = 90;
    const std::vector<double>& s = shape.disc.empty() ? shape.ring : shape.disc;
    for (int i = 0; i < corners && radius > 0; ++i)
      to.push_back(placement.at(Point2{s[0], s[1]} + unit(degrees(360.0 * i / corners)) * radius));
  };
  if (!shape.disc.empty()) round(shape.disc[2], outer);
  if (!shape.ring.empty()) round(shape.ring[3], outer), round(shape.ring[2], inner);
  if (const auto& b = shape.box; !b.empty()) {
    const Point2 x = unit(degrees(b[4])) * (0.5 * b[2]), y = Point2{-x.y, x.x} * (b[3] / b[2]);
    for (const Point2 corner : {-x - y, x - y, x + y, -x + y})
      outer.push_back(placement.at(Point2{b[0], b[1]} + corner));
  }
  for (size_t i = 0; i + 1 < shape.polygon.size(); i += 2)
    outer.push_back(placement.at({shape.polygon[i], shape.polygon[i + 1]}));

  AreaPixels area;
  area.border = outer;
  const Box box = Region::polygon(outer).bounds();
  constexpr double far = 1e6;
  const auto held = [&](double v) { return static_cast<int>(std::lround(std::clamp(v, -far, far))); };
  const int left = held(std::floor(box.x)), top = held(std::floor(box.y)),
            right = held(std::ceil(box.x + box.width)) + 1, bottom = held(std::ceil(box.y + box.height)) + 1;
  area.left = std::max(left, 0), area.top = std::max(top, 0);
  const int columns = std::min(right, width) - area.left, rows = std::min(bottom, height) - area.top;
  if (columns <= 0 || rows <= 0) {
    area.inside = 0;
    return area;
  }
  const Point2 corner{static_cast<double>(area.left), static_cast<double>(area.top)};
  for (Point2& p : outer) p = p - corner;
  for (Point2& p : inner) p = p - corner;
  area.mask = Image<uint8_t>(columns, rows);
  fill_polygon(area.mask, outer, 255), fill_polygon(area.mask, inner, 0);
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x) area.count += area.mask(x, y) != 0;
  // A shape that the picture cuts off has less pixels than its area.
  double twice = 0;
  for (const auto* ring : {&outer, &inner})
    for (size_t i = 0; i < ring->size(); ++i)
      twice += (ring == &outer ? 1 : -1) * cross((*ring)[i], (*ring)[(i + 1) % ring->size()]);
  const bool cut = left < 0 || top < 0 || right > width + 1 || bottom > height + 1;
  if (cut)
    area.inside = std::min(1.0, static_cast<double>(area.count) / std::max(1.0, 0.5 * std::abs(twice)));
  return area;
}

}  // namespace heron
