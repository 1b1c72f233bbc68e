#include "heron/render/studio_views.hpp"

#include <array>

#include "free_places.hpp"
#include "heron/render/tray_station.hpp"
#include "studio_parts.hpp"

namespace heron::render {
namespace {

struct Glaze {
  const char* name;
  Tint tint;
};
// As a kiln gives them; ochre and brick lie near each other, and so do teal and moss.
constexpr std::array<Glaze, 6> glazes{{{"teal", {0.12, 0.62, 0.60}},
                                       {"moss", {0.28, 0.55, 0.22}},
                                       {"ochre", {0.85, 0.62, 0.18}},
                                       {"brick", {0.75, 0.30, 0.18}},
                                       {"plum", {0.45, 0.20, 0.50}},
                                       {"cobalt", {0.14, 0.28, 0.72}}}};

}  // namespace

CameraModel straight_camera(int width, int height, double scale) {
  const double far = 1000;
  const Lens lens{.fx = scale * far, .fy = scale * far, .cx = 0.5 * (width - 1), .cy = 0.5 * (height - 1)};
  return camera_above(far, lens);
}

Picture picture_of(const StudioView& view, Random& random) {
  Picture picture;
  if (view.color)
    picture.pixels = expose(exact_channels(view.scene), view.noise, random);
  else
    picture.pixels = expose(exact_picture(view.scene), view.noise, random);
  return picture;
}

StudioView glazed_tiles(Random& random, const StudioFilling& filling) {
  static const std::array<const char*, 4> kinds{"crescent", "kite", "hexagon", "rosette"};
  StudioView view =
      empty_view(random, filling, 0.66, 1.02);  // of the sample's light, gradients included below
  view.color = true;
  view.scene.light.gradient = view.scene.light.gradient * 0.25, view.scene.light.falloff *= 0.3;
  view.scene.background = 0.30, view.scene.background_tint = {1.0, 0.97, 0.92};
  FreePlaces places(random, 152, 120);
  const auto put_tile = [&](const Glaze& glaze) {
    const Pose2 place = turned(places.next(19), filling.turned, random);
    const std::string kind = kinds[static_cast<size_t>(random.whole(0, 3))];
    std::vector<Piece> pieces = tile_pieces(kind, place, 0.85);
    StudioPart part = part_of(view.scene, glaze.name, place);
    part.area_px = area_px(pieces[0].outline);
    // The position of a region is its centroid, of which only symmetric shapes know without computing it.
    pieces.resize(1);
    if (kind == "hexagon" || kind == "rosette") part.angle = {};
    put(view.scene, pieces, glaze.tint);
    Point2 centroid;
    double twice = 0;
    for (const auto& loop : pieces[0].outline.loops)
      for (size_t i = 0; i < loop.size(); ++i) {
        const Point2 a = loop[i], b = loop[(i + 1) % loop.size()];
        const double c = cross(a, b);
        twice += c, centroid += (a + b) * (c / 3);
      }
    const Point2 world = place * (centroid / twice);
    part.pixel = view.scene.camera.project({world.x, world.y, 0});
    return part;
  };
  if (!filling.empty)
    for (int i = 0; i < filling.parts; ++i) view.parts.push_back(put_tile(glazes[0]));
  for (int i = 0; i < 8; ++i) put_tile(glazes[static_cast<size_t>(random.whole(1, 5))]);
  return view;
}

StudioView leaf_blanks(Random& random, const StudioFilling& filling) {
  StudioView view = empty_view(random, filling, 0.3, 1.5);
  view.scene.background = 0.22;
  FreePlaces places(random, 150, 118);
  const Outline blank = leaf(44, 27);
  const double glaze = filling.hard ? random.uniform(0.45, 0.62) : 0.6;
  std::vector<Pose2> leaves;
  if (!filling.empty)
    for (int i = 0; i < filling.parts; ++i) {
      leaves.push_back(turned(places.next(26), filling.turned, random));
      view.parts.push_back(part_of(view.scene, "leaf blank", leaves.back()));
      view.parts.back().area_px = area_px(blank);
      view.scene.pieces.push_back({blank, leaves.back(), glaze});
    }
  const int others = filling.hard ? 6 : 3;
  for (int i = 0; i < others; ++i) {
    const Pose2 place = turned(places.next(26), 180, random);
    const int which = random.whole(0, 3);
    const Outline shape = which == 0   ? mirrored(blank)
                          : which == 1 ? rosette(17, 8, 3)
                          : which == 2 ? hexagon(17)
                                       : crescent(17, 15);
    view.scene.pieces.push_back({shape, place, glaze});
  }
  if (filling.hard) {  // a strip of tape as dark as the tray over some, and crumbs
    for (const Pose2& place : leaves)
      if (random.uniform() < 0.5)
        view.scene.pieces.push_back(
            {rectangle(60, random.uniform(2, 9)),
             place * Pose2{random.uniform(-16, 16), 0, degrees(random.uniform(60, 120))}, 0.22});
    for (int i = 0; i < 30; ++i)
      view.scene.pieces.push_back({disc(random.uniform(0.3, 1.2)),
                                   {random.uniform(-155, 155), random.uniform(-122, 122), {}},
                                   random.uniform(0.1, 0.6)});
  }
  return view;
}

StudioView blanks_on_belt(Random& random, const StudioFilling& filling) {
  StudioView view = leaf_blanks(random, filling);
  view.color = true;
  const Tint blue{0.25, 0.45, 0.95}, cream{1.0, 0.93, 0.75};
  view.scene.background = 0.35, view.scene.background_tint = blue;
  for (Piece& piece : view.scene.pieces) {
    const bool as_the_tray = piece.reflectance == 0.22;  // tape is of the belt's color
    piece.tint = as_the_tray ? blue : cream;
    if (as_the_tray) piece.reflectance = 0.35;
  }
  if (filling.hard)  // patches of the belt that are worn bright or soiled
    for (int i = 0; i < 12; ++i)
      view.scene.pieces.insert(view.scene.pieces.begin(),
                               {disc(random.uniform(5, 25)),
                                {random.uniform(-150, 150), random.uniform(-120, 120), {}},
                                random.uniform(0.2, 0.55),
                                0,
                                blue});
  return view;
}

StudioView door_frame(Random& random, const StudioFilling& filling, bool stud) {
  StudioView view = empty_view(random, filling, 0.3, 1.5);
  view.scene.background = stud ? 0.28 : 0.5;
  const double radius = 8;  // 64 pixels across
  FreePlaces places(random, 150, 118);
  const Pose2 at = places.next(24);
  Scene& scene = view.scene;
  const auto add = [&](Outline shape, const Pose2& place, double reflectance) {
    scene.pieces.push_back({std::move(shape), place, reflectance});
  };
  if (!filling.empty) {
    if (!stud && filling.hard && random.uniform() < 0.4) add(disc(radius * 1.3), at, 0.62);  // a countersink
    add(disc(radius), at, stud ? 0.85 : 0.06);
    if (!stud && filling.hard)  // what is seen through it
      for (int i = 0; i < 3; ++i) {
        const double size = random.uniform(0.8, 2.2);
        const Point2 there =
            unit(degrees(random.uniform(-180, 180))) * random.uniform(0, radius - 1.5 * size);
        add(random.uniform() < 0.5 ? disc(size) : rectangle(1.3 * size, 1.3 * size),
            at * Pose2{there.x, there.y, {}}, random.uniform(0.05, 0.3));
      }
    StudioPart part = part_of(scene, stud ? "stud" : "bore", at);
    part.diameter_px = 2 * radius * pixels_per_mm;
    part.area_px = std::numbers::pi * radius * radius * pixels_per_mm * pixels_per_mm;
    view.parts.push_back(part);
  }
  const double dark = 0.1, bright = 0.75;
  for (int i = 0; i < (filling.hard ? 7 : 3); ++i) {
    const Pose2 place = turned(places.next(17), 180, random);
    switch (random.whole(0, 4)) {
      case 0:  // a bolt
        add(disc(random.uniform(4, 6)), place, bright), add(hexagon(random.uniform(2.5, 3.5)), place, dark);
        break;
      case 1:  // a slot
        add(rounded_rectangle(random.uniform(18, 26), random.uniform(7, 12), 3), place, dark);
        break;
      case 2:  // another hole, too small or too large
        add(disc(random.uniform() < 0.5 ? random.uniform(3, 6.6) : random.uniform(9.6, 13)), place,
            stud ? bright : dark);
        break;
      case 3:
        add(hexagon(random.uniform(7, 9)), place, stud ? bright : dark);
        break;
      default:
        add(rounded_rectangle(15, 15, 4), place, stud ? bright : dark);
    }
  }
  if (filling.hard) {
    for (int i = 0; i < 40; ++i)  // pores
      add(disc(random.uniform(0.15, 0.8)), {random.uniform(-155, 155), random.uniform(-122, 122), {}},
          random.uniform(0.05, 0.5));
    if (!filling.empty && random.uniform() < 0.6) {  // up to a third of the rim is hidden by a plate
      const double turn = random.uniform(-180, 180);
      const Point2 away = unit(degrees(turn)) * (radius * random.uniform(0.5, 1.1) + 10);
      add(rectangle(20, 40), {at.x + away.x, at.y + away.y, degrees(turn)}, random.uniform(0.15, 0.9));
    }
    if (stud && !filling.empty)
      scene.glares.push_back({view.parts[0].pixel, random.uniform(10, 40), random.uniform(0, 0.1)});
  }
  return view;
}

StudioView floor_panel(Random& random, const StudioFilling& filling) {
  StudioView view = empty_view(random, filling, 0.3, 1.5);
  Scene& scene = view.scene;
  const double tray = 0.22, glaze = 0.6;
  scene.background = tray;
  const std::vector<Point2> taught{{-62, -45}, {62, -45}, {62, 25}, {42, 45}, {-62, 45}};
  Pose2 place;
  double scale = 1;
  std::vector<Point2> corners = taught;
  if (filling.hard) {
    place = {random.uniform(-8, 8), random.uniform(-8, 8), degrees(random.uniform(-6, 6))};
    scale = random.uniform(0.975, 1.025);
    // Each side by itself a little off; corners are where the sides as they are meet.
    std::vector<std::pair<Point2, Point2>> sides;  // a point and a direction
    for (size_t i = 0; i < taught.size(); ++i) {
      const Point2 a = taught[i], b = taught[(i + 1) % taught.size()], u = (b - a) / distance(a, b);
      sides.emplace_back(a + Point2{-u.y, u.x} * random.uniform(-0.75, 0.75), u);
    }
    for (size_t i = 0; i < taught.size(); ++i) {
      const auto& [p, u] = sides[(i + taught.size() - 1) % taught.size()];
      const auto& [q, v] = sides[i];
      corners[i] = p + u * (cross(q - p, v) / cross(u, v));
    }
  }
  for (Point2& p : corners) p = p * scale;
  if (!filling.empty) {
    const Outline border{{corners}};
    scene.pieces.push_back({border, place, glaze});
    std::vector<Point2> outer, inner;
    for (const Point2& p : corners) outer.push_back(p * 0.88), inner.push_back(p * 0.865);
    scene.pieces.push_back({{{outer}}, place, 0.45});
    scene.pieces.push_back({{{inner}}, place, glaze});
    StudioPart panel = part_of(scene, "panel", place);
    for (const Point2& p : corners) {
      const Point2 w = place * p;
      panel.corners.push_back(scene.camera.project({w.x, w.y, 0}));
    }
    // Chips: flakes in the glaze beside the border, away from the corners and from each other.
    if (filling.hard) {
      for (size_t i = 0; i < corners.size(); ++i) {
        if (random.uniform() < 0.5) continue;
        const Point2 a = corners[i], b = corners[(i + 1) % corners.size()], u = (b - a) / distance(a, b);
        const double radius = random.uniform(0.7, 1.5), t = random.uniform(0.2, 0.45);
        const Point2 at = a + (b - a) * t + Point2{-u.y, u.x} * 2.6;
        scene.pieces.push_back({disc(radius, at), place, random.uniform(0.12, 0.24)});
        const Point2 w = place * at;
        StudioPart chip{.kind = "chip", .pixel = scene.camera.project({w.x, w.y, 0})};
        chip.area_px = std::numbers::pi * radius * radius * pixels_per_mm * pixels_per_mm;
        panel.chips.push_back(chip);
      }
      if (random.uniform() < 0.6) {  // tape as dark as the tray over a part of one side
        const auto i = static_cast<size_t>(random.whole(0, 4));
        const Point2 a = corners[i], b = corners[(i + 1) % corners.size()];
        scene.pieces.push_back(
            {rectangle(random.uniform(6, 0.3 * distance(a, b)), 6),
             place * Pose2{a.x + 0.75 * (b.x - a.x), a.y + 0.75 * (b.y - a.y), direction(b - a)}, tray});
      }
    }
    view.parts.push_back(panel);
  }
  if (filling.hard) {
    const auto beside = [&] {  // outside of where the panel may be
      const double x = random.uniform(82, 150) * (random.uniform() < 0.5 ? -1 : 1);
      return Pose2{x, random.uniform(-110, 110), degrees(random.uniform(-180, 180))};
    };
    for (int i = 0; i < 6; ++i)
      scene.pieces.push_back({random.uniform() < 0.5 ? hexagon(random.uniform(5, 9)) : rectangle(24, 8),
                              beside(), random.uniform(0.35, 0.7)});
    if (filling.empty)
      for (int i = 0; i < 5; ++i)
        scene.pieces.push_back(
            {i % 2 ? hexagon(17) : leaf(44, 27),
             {random.uniform(-70, 70), random.uniform(-60, 60), degrees(random.uniform(-180, 180))},
             glaze});
  }
  return view;
}

}  // namespace heron::render
