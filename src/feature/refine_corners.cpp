#include <algorithm>
#include <array>
#include <cmath>

#include "heron/feature/board_points.hpp"
#include "heron/image/sample.hpp"
#include "point_step.hpp"

namespace heron {
namespace {

/// What the four fields around a corner look like; false when it has no room for that.
bool describe(const ImageView<const uint8_t>& picture, const CornerSeen& c, double blur, PointModel& m) {
  const double columns = norm(c.column_step), rows = norm(c.row_step), shorter = std::min(columns, rows);
  if (!(shorter > 6)) return false;
  m.kind = PointModel::corner;
  m.at = c.at;
  m.radius = static_cast<float>(std::min(0.45 * shorter, 24.0));
  m.edge = static_cast<float>(2.65 * blur);
  const Point2 n1{-c.column_step.y / columns, c.column_step.x / columns},
      n2{-c.row_step.y / rows, c.row_step.x / rows};
  m.a = static_cast<float>(n1.x), m.b = static_cast<float>(n1.y);
  m.c = static_cast<float>(n2.x), m.d = static_cast<float>(n2.y);
  double like = 0, unlike = 0;
  std::array<double, 4> fields{};
  for (int k = 0; k < 4; ++k) {
    const double i = k & 1 ? 1 : -1, j = k & 2 ? 1 : -1;
    // A few places of the field's middle, averaged.
    for (const double share : {0.17, 0.22, 0.27}) {
      const Point2 p = c.at + c.column_step * (i * share) + c.row_step * (j * share);
      if (!can_sample(picture, p.x, p.y)) return false;
      const double grey = bilinear(picture, p.x, p.y) / 3;
      fields[static_cast<size_t>(k)] += grey;
    }
    const Point2 d = c.column_step * i + c.row_step * j;
    (dot(n1, d) * dot(n2, d) > 0 ? like : unlike) += fields[static_cast<size_t>(k)] / 2;
  }
  m.middle = static_cast<float>(0.5 * (like + unlike)),
  m.contrast = static_cast<float>(0.5 * (like - unlike));
  return std::abs(m.contrast) > 4;
}

/// A step for every `stride`th corner.
void step_all(const ImageView<const uint8_t>& picture, std::vector<CornerSeen>& corners, double blur,
              size_t stride, std::vector<double>& log_blurs) {
  for (size_t i = 0; i < corners.size(); i += stride) {
    CornerSeen& c = corners[i];
    PointModel m;
    if (!describe(picture, c, blur, m)) continue;
    const PointStep step = point_step(picture, m);
    if (!step.good || norm(step.shift) > 0.3) continue;
    c.at += step.shift;
    log_blurs.push_back(step.log_blur);
  }
}

}  // namespace

void refine_corners(const ImageView<const uint8_t>& picture, std::vector<CornerSeen>& corners) {
  std::vector<double> log_blurs;
  step_all(picture, corners, usual_blur_px, stride_to_learn_blur(corners.size()), log_blurs);
  const double blur = learned_blur_px(std::move(log_blurs));
  log_blurs.clear();
  step_all(picture, corners, blur, 1, log_blurs);
}

}  // namespace heron
