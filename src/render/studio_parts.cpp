#include "studio_parts.hpp"

namespace heron::render {

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

StudioView empty_view(Random& random, const StudioFilling& filling, double min_light, double max_light) {
  StudioView view;
  view.scene.camera = straight_camera(view_width, view_height, pixels_per_mm);
  view.scene.width = view_width, view.scene.height = view_height;
  view.scene.texture = 0.01, view.scene.texture_seed = random.bits();
  view.noise = {.sigma = 2};
  if (filling.hard) {
    view.scene.light = {random.uniform(min_light, max_light),
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

}  // namespace heron::render
