#pragma once
#include "heron/render/studio_views.hpp"

namespace heron::render {

/// What the studio's views share: a camera of 1280 x 1024 pixels looks straight down, four pixels a
/// millimetre.
inline constexpr double pixels_per_mm = 4;
inline constexpr int view_width = 1280, view_height = 1024;

Point2 pixel_of(const Scene& scene, const Pose2& place);
StudioPart part_of(const Scene& scene, const std::string& kind, const Pose2& place);
double area_px(const Outline& outline);
/// Nothing but the tray, its light, blur and noise.
StudioView empty_view(Random& random, const StudioFilling& filling, double min_light, double max_light);
void put(Scene& scene, std::vector<Piece> pieces, const Tint& tint);
/// The place, turned by up to so many degrees either way.
Pose2 turned(Pose2 place, double within, Random& random);

}  // namespace heron::render
