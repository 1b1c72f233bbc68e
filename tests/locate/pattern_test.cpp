#include <doctest/doctest.h>

#include "heron/locate/pattern.hpp"
#include "heron/locate/survey.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {
CameraModel straight_camera() { return camera_above(600, {.fx = 2400, .fy = 2400}); }

Image<uint8_t> picture_of(const std::vector<Piece>& pieces, double noise, uint64_t seed, double light = 1) {
  Scene scene;
  scene.camera = straight_camera();
  scene.texture = 0.012;
  scene.texture_seed = seed;
  scene.light.level = light;
  scene.pieces = pieces;
  Random random(seed);
  return expose(exact_picture(scene), {.sigma = noise}, random);
}

/// The leaf tile taught upright at the middle of the picture; its origin is the middle.
PatternTarget leaf_target() {
  const Image<uint8_t> taught = picture_of(tile_pieces("leaf", {}, 0.62), 2, 77);
  return teach_pattern(taught, Region::rectangle(Point2{639.5, 511.5}, 208, 156, {}), {.name = "leaf"});
}
}  // namespace

TEST_CASE("probe") {
  const PatternTarget target = leaf_target();
  MESSAGE("levels " << target.levels().size() << " edges " << target.levels()[0].size() << " coarse " << target.coarse_edges().size() << " strength " << target.strength());
  Random random(4);
  TrayStation station = make_tray_station(3, {.views = 3});
  for (auto& view : station.views) {
    view.scene.camera = straight_camera();
    const Survey survey(expose(exact_picture(view.scene), {.sigma = 2}, random));
    const Findings f = find(target, survey);
    MESSAGE("found " << f.sightings.size() << " misses " << f.misses.size());
    for (const Sighting& s : f.sightings) {
      double best = 1e9, turn = 0;
      for (const TrayTile& t : view.tiles)
        if (t.kind == "leaf") {
          const Point2 p = view.scene.camera.project({t.table_from_tile.x, t.table_from_tile.y, 0});
          const double d = std::hypot(p.x - s.x, p.y - s.y);
          if (d < best) best = d, turn = (s.angle + t.table_from_tile.angle).wrapped().degrees();
        }
      MESSAGE(s.x << " " << s.y << " " << s.angle.degrees() << " score " << s.score << " contrast " << s.contrast << " off " << best << " turn " << turn << " sigma " << s.sigma.x << " " << s.sigma.angle.degrees());
    }
    for (const Miss& m : f.misses) MESSAGE("miss " << m.x << " " << m.y << " " << m.score << " " << m.limits[0].name);
  }
}
