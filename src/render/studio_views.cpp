#include "heron/render/studio_views.hpp"

#include <array>

#include "free_places.hpp"
#include "heron/render/tray_station.hpp"

namespace heron::render {
namespace {

constexpr double pixels_per_mm = 4;
constexpr int view_width = 1280, view_height = 1024;

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

Point2 pixel_of(const Scene& scene, const Pose2& place) {
  return scene.camera.project({place.x, place.y, 0});
}

StudioPart part_of(const Scene& scene, const std::string& kind, const Pose2& place) {
  return {kind, pixel_of(scene, place), (-place.angle).wrapped()};
}

double area_px(const Outline& outline) {
  double twice = 0;
  for (const auto& loop : outline.loops)
    for (size_t i = 0; i < loop.size(); ++i) twice += cross(loop[i], loop[(i + 1) % loop.size()]);
  return 0.5 * std::abs(twice) * pixels_per_mm * pixels_per_mm;
}

StudioView empty_view(Random& random, const StudioFilling& filling, double least_light, double most_light) {
  StudioView view;
  view.scene.camera = straight_camera(view_width, view_height, pixels_per_mm);
  view.scene.width = view_width, view.scene.height = view_height;
  view.scene.texture = 0.01, view.scene.texture_seed = random.bits();
  view.noise = {.sigma = 2};
  if (filling.hard) {
    view.scene.light = {random.uniform(least_light, most_light),
                        {random.uniform(-0.35, 0.35), random.uniform(-0.35, 0.35)},
                        random.uniform(0, 0.2)};
    view.scene.blur_px = random.uniform(0.5, 1.6);
    view.noise.sigma = random.uniform(1, 5);
  }
  return view;
}

void put(Scene& scene, std::vector<Piece> pieces, const Tint& tint) {
  for (Piece& p : pieces) p.tint = tint, scene.pieces.push_back(std::move(p));
}

Pose2 turned(Pose2 place, double within, Random& random) {
  place.angle = degrees(random.uniform(-within, within));
  return place;
}

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

}  // namespace heron::render
