#include "studio_parts.hpp"

namespace heron::render {
namespace {

constexpr Tint stripe_teal{0.12, 0.62, 0.60};

/// Crumbs on table and plate, where edges are scanned too.
void scatter_crumbs(Scene& scene, Random& random, int count) {
  for (int i = 0; i < count; ++i)
    scene.pieces.push_back({disc(random.uniform(0.15, 0.6)),
                            {random.uniform(-80, 80), random.uniform(-65, 65), {}},
                            random.uniform(0.1, 0.7)});
}

}  // namespace

StudioView gauge_plate(Random& random, const StudioFilling& filling) {
  StudioView view = empty_view(random, filling, 0.3, 1.5);
  Scene& scene = view.scene;
  const double table = 0.2, metal = 0.62, width = 110, height = 80;
  scene.background = table;
  Pose2 place;
  if (filling.hard)
    place = {random.uniform(-2, 2), random.uniform(-2, 2), degrees(random.uniform(-1.5, 1.5))};
  if (!filling.empty) {
    scene.pieces.push_back({rectangle(width, height), place, metal});
    const Pose2 bore = place * Pose2{10, 5, {}};
    scene.pieces.push_back({disc(8), bore, 0.08});
    if (filling.hard) {
      // A groove along inside the border, fainter than it.
      scene.pieces.insert(scene.pieces.end() - 1, {rectangle(width - 8, height - 8), place, metal * 0.85});
      scene.pieces.insert(scene.pieces.end() - 1, {rectangle(width - 10, height - 10), place, metal});
      for (int i = 0; i < 4; ++i) {  // tape as dark as the table over a part of each side
        const double half = 0.5 * (i % 2 ? height : width), at = random.uniform(-0.8, 0.8) * half;
        const Pose2 side = i == 0   ? Pose2{at, height / 2, {}}
                           : i == 1 ? Pose2{width / 2, at, 90_deg}
                           : i == 2 ? Pose2{at, -height / 2, {}}
                                    : Pose2{-width / 2, at, 90_deg};
        scene.pieces.push_back({rectangle(random.uniform(1.5, 5), 5), place * side, table});
      }
      if (random.uniform() < 0.5) {  // swarf over the bore's rim
        const Point2 away = unit(degrees(random.uniform(-180, 180))) * 8;
        scene.pieces.push_back({rectangle(random.uniform(1, 6), random.uniform(1, 6)),
                                bore * Pose2{away.x, away.y, degrees(random.uniform(-180, 180))},
                                random.uniform(0.3, 0.8)});
      }
    }
    StudioPart plate = part_of(scene, "plate", place);
    for (const auto& [x, y] : {std::pair{-1, 1}, {1, 1}, {1, -1}, {-1, -1}}) {
      const Point2 corner = place * Point2{x * width / 2, y * height / 2};
      plate.corners.push_back(scene.camera.project({corner.x, corner.y, 0}));
    }
    StudioPart hole = part_of(scene, "bore", bore);
    hole.diameter_px = 16 * pixels_per_mm;
    plate.chips.push_back(hole);
    view.parts.push_back(plate);
  }
  if (filling.hard) scatter_crumbs(scene, random, 120);
  return view;
}

StudioView floor_stripe(Random& random, const StudioFilling& filling) {
  StudioView view = empty_view(random, filling, 0.3, 1.5);
  view.color = true;
  Scene& scene = view.scene;
  const double ground = 0.5, width = 12;
  const Tint floor{1.0, 0.97, 0.90};
  scene.background = ground, scene.background_tint = floor;
  const bool hard = filling.hard;
  // x = a + b y + c y y, millimetres, y up the picture.
  const double a = hard ? random.uniform(-70, 70) : random.uniform(-20, 20),
               b = hard ? random.uniform(-0.35, 0.35) : random.uniform(-0.1, 0.1),
               c = hard ? random.uniform(-0.0012, 0.0012) : 0;
  const auto middle = [&](double y) { return Point2{a + b * y + c * y * y, y}; };
  const auto add = [&](Outline shape, const Pose2& place, double reflectance, const Tint& tint) {
    scene.pieces.push_back(
        {.outline = std::move(shape), .world_from_piece = place, .reflectance = reflectance, .tint = tint});
  };
  const auto segment = [&](double from, double to, double wide) {  // a piece of the stripe's way
    Outline outline{{{}}};
    std::vector<Point2> back;
    constexpr int steps = 60;
    for (int i = 0; i <= steps; ++i) {
      const double y = from + (to - from) * i / steps;
      const Point2 u = unit(direction({b + 2 * c * y, 1})), n{u.y, -u.x};
      outline.loops[0].push_back(middle(y) + n * (wide / 2)), back.push_back(middle(y) - n * (wide / 2));
    }
    outline.loops[0].insert(outline.loops[0].end(), back.rbegin(), back.rend());
    return outline;
  };
  if (!filling.empty) {
    add(segment(-150, 150, width), {}, 0.85, stripe_teal);
    const double slope = b;  // at y = 0, the picture's middle row
    StudioPart part{.kind = "stripe", .pixel = scene.camera.project({a, 0, 0})};
    part.angle = radians(std::atan(slope));
    view.parts.push_back(part);
  }
  if (!hard) return view;
  for (int i = 0; i < 25; ++i) {  // worn through
    const Point2 p = middle(random.uniform(-128, 128));
    add(disc(random.uniform(0.8, 4)), {p.x + random.uniform(-6, 6), p.y, {}},
        ground * random.uniform(0.8, 1.05), floor);
  }
  for (int i = 0; i < 3; ++i) {  // gaps
    const double from = random.uniform(-125, 100);
    add(segment(from, from + random.uniform(5, 25), width + 2), {}, ground, floor);
  }
  for (int i = 0; i < 10; ++i)  // skid marks and chalk
    add(rectangle(random.uniform(20, 200), random.uniform(1, 8)),
        {random.uniform(-150, 150), random.uniform(-120, 120), degrees(random.uniform(-180, 180))},
        random.uniform() < 0.6 ? 0.22 : 0.8, floor);
  scene.shadows.push_back({{random.uniform(0, 1279), random.uniform(0, 1023)},
                           degrees(random.uniform(-180, 180)),
                           random.uniform(60, 400),
                           random.uniform(0.2, 0.6),
                           random.uniform(2, 12)});
  if (random.uniform() < 0.6)
    scene.glares.push_back({{random.uniform(0, 1279), random.uniform(0, 1023)},
                            random.uniform(30, 120),
                            random.uniform(0.1, 0.5)});
  return view;
}

}  // namespace heron::render
