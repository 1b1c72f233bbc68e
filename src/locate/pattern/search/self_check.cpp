#include "self_check.hpp"

#include <algorithm>

#include "descent.hpp"
#include "locate/pattern/coarse/coarse_search.hpp"
#include "locate/pattern/edges/teach_edges.hpp"

namespace heron {

Image<uint8_t> with_margin(const Image<uint8_t>& picture, const Image<uint8_t>& mask, int margin) {
  const int width = picture.width() + 2 * margin, height = picture.height() + 2 * margin;
  Image<uint8_t> wide(width, height), known(width, height);
  for (int y = 0; y < picture.height(); ++y) {
    std::copy_n(picture.row(y), picture.width(), wide.row(y + margin) + margin);
    std::copy_n(mask.row(y), picture.width(), known.row(y + margin) + margin);
  }
  return filled_under_mask(wide, known);
}

bool finds_home(const PatternModel& target, const Image<uint8_t>& filled, const Image<uint8_t>& mask) {
  constexpr double min_score = 75;  // of what lies at home all but some edges at the border
  const int level = target.coarse().level, pixel = 1 << level, margin = 6 * pixel;
  const Image<uint8_t> wide = with_margin(filled, mask, margin);
  const Angle step = coarse_angle_step(target);
  const Point2 middle = target.extent().centre();
  const double contrast = std::max(weakest_contrast, 0.4 * target.strength());
  for (const Point2 phase : {Point2{0, 0}, {0.25, 0.75}, {0.5, 0.5}, {0.75, 0.25}}) {
    const int x = static_cast<int>(phase.x * pixel), y = static_cast<int>(phase.y * pixel);
    const PreparedPicture prepared(Image<uint8_t>(
        ImageView<const uint8_t>(wide.row(y) + x, wide.width() - x, wide.height() - y, wide.stride())));
    if (prepared.level_count() <= level) return false;
    const Point2 home = target.origin() + Point2{margin - x + 0.0, margin - y + 0.0} + middle;
    const PatternSearch search{target,
                               prepared,
                               {.angle = full_turn,
                                .scale = {1, 1},
                                .min_contrast = contrast,
                                .min_score = 50,
                                .polarity = Polarity::as_taught,
                                .effort = 1,
                                .max_overlap = 1,
                                .origins = {}},
                               nullptr};
    const LevelFit fit(search, level);
    for (const int turn : {-1, 0, 1})
      for (const Point2 off : {Point2{-0.7, -0.7}, {0.7, -0.7}, {-0.7, 0.7}, {0.7, 0.7}}) {
        if (turn != 0 && !target.has_angle()) continue;
        const Angle turned = step * turn;
        const Point2 at = home + off * pixel - rotated(middle, turned);
        if (fit.of({.pose = {at.x, at.y, turned, 1}, .score = 100}).score < min_score) return false;
      }
  }
  return true;
}

}  // namespace heron
