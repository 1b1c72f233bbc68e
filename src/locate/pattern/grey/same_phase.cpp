#include "same_phase.hpp"

#include <Eigen/LU>
#include <cmath>

#include "grey_sums.hpp"

namespace heron {
namespace {

/// Slopes across a 5 x 3 window: central differences behind [1 2 1] / 4 either way, which end at the Nyquist
/// frequency and do not look at the pixel itself.
Point2 smooth_slope(const ImageView<const uint8_t>& picture, int x, int y) {
  if (x < 2 || y < 2 || x + 2 >= picture.width() || y + 2 >= picture.height()) return {};
  const auto along = [](int a, int b, int c, int d) { return d - a + 2 * (c - b); };
  int across = 0, down = 0;
  for (int k = -1; k <= 1; ++k) {
    const int weight = k == 0 ? 2 : 1;
    const uint8_t* row = picture.row(y + k) + x;
    across += weight * along(row[-2], row[-1], row[1], row[2]);
    const int u = x + k;
    down += weight *
            along(picture.row(y - 2)[u], picture.row(y - 1)[u], picture.row(y + 1)[u], picture.row(y + 2)[u]);
  }
  return {across / 32.0, down / 32.0};
}

/// The slopes in the taught frame, as columns that belong to the unknowns of the pose.
void fill_columns(const ImageView<const uint8_t>& picture, const GreySamples& samples,
                  const Similarity2& pose, InstrumentScratch& s) {
  for (std::vector<float>* column : {&s.x, &s.y, &s.turn, &s.growth}) column->assign(samples.x.size(), 0.F);
  for (size_t i = 0; i < samples.count; ++i) {
    const Point2 slope =
        rotated(
            smooth_slope(picture, static_cast<int>(samples.base.x + static_cast<double>(samples.across[i])),
                         static_cast<int>(samples.base.y + static_cast<double>(samples.down[i]))),
            -pose.angle) *
        pose.scale;
    const auto dx = static_cast<float>(slope.x), dy = static_cast<float>(slope.y);
    const float x = samples.x[i], y = samples.y[i];
    s.x[i] = -dx, s.y[i] = -dy, s.turn[i] = dx * y - dy * x, s.growth[i] = -(dx * x + dy * y);
  }
}

}  // namespace

bool share_a_phase(const Similarity2& pose, double size) {
  constexpr double most = 2;  // pixels of phase over the part, with which it is even all over
  const double quarter = std::remainder(pose.angle.radians(), std::numbers::pi / 2);
  return size * std::abs(quarter) < most && size * std::abs(pose.scale - 1) < most;
}

Point2 bias_of_edges(const EdgeColumns& edges, const Similarity2& pose) {
  constexpr double contribution = 0.024;  // pixels, for blurs of 0.6 to 1.2
  constexpr float straight = 0.06F;       // of a normal beside the axis, noise included
  double along_x = 1e-9, along_y = 1e-9, straight_x = 0, straight_y = 0;
  for (size_t i = 0; i < edges.count; ++i) {
    const float nx = edges.normal_x[i], ny = edges.normal_y[i];
    along_x += static_cast<double>(nx * nx), along_y += static_cast<double>(ny * ny);
    straight_x += std::abs(ny) < straight ? 1 : 0, straight_y += std::abs(nx) < straight ? 1 : 0;
  }
  const double x = contribution * straight_x / along_x, y = contribution * straight_y / along_y;
  const bool swapped = std::abs(sin(pose.angle)) > 0.5;
  return swapped ? Point2{y, x} : Point2{x, y};
}

InstrumentStep instrument_step(const Image<uint8_t>& picture, const FitState& look, const GreyStep& step,
                               const Similarity2& pose, InstrumentScratch& s) {
  constexpr auto first_light = static_cast<Eigen::Index>(first_light_unknown);
  fill_columns(picture.view(), look.problem.samples, pose, s);
  const GreyNormal normal(look.weights.products);
  // Light keeps its own columns, which the residuals fit already.
  GreyMatrix instruments = normal.all.topLeftCorner<grey_unknowns, grey_unknowns>(), own = instruments;
  GreyVector left = GreyVector::Zero();
  const auto find = [&](const FurtherColumns& columns) {
    return find_further(look.problem, step, look.roots, columns);
  };
  const ExtraRegressors place = find({s.x.data(), s.y.data(), s.turn.data()});
  instruments.topRows<3>() = place.with, left.head<3>() = place.left, own.topLeftCorner<3, 3>() = place.own;
  if (look.free[3]) {  // three columns at a time, so the fourth meets the others in two more rounds
    const ExtraRegressors growth = find({s.x.data(), s.y.data(), s.growth.data()}),
                          turn = find({s.turn.data(), s.growth.data(), nullptr});
    instruments.row(3) = growth.with.row(2), left[3] = growth.left[2];
    own.row(3).head<4>() << growth.own(2, 0), growth.own(2, 1), turn.own(1, 0), growth.own(2, 2);
    own.col(3).head<4>() = own.row(3).head<4>().transpose();
  }
  own.topRightCorner<4, 4>() = instruments.block<4, 4>(0, first_light);
  own.bottomLeftCorner<4, 4>() = own.topRightCorner<4, 4>().transpose();
  for (Eigen::Index i = 0; i < instruments.rows(); ++i) {
    if (look.free[static_cast<size_t>(i)]) continue;
    for (GreyMatrix* m : {&instruments, &own}) m->row(i).setZero(), m->col(i).setZero();
    instruments(i, i) = 1, left[i] = 0;
  }
  const Eigen::FullPivLU<GreyMatrix> solver(instruments);
  InstrumentStep result;
  if (!solver.isInvertible()) return result;
  result.shift = solver.solve(left);
  const GreyMatrix inverse = solver.inverse(), spread = inverse * own * inverse.transpose(),
                   plain = look.solved.inverse();
  for (Eigen::Index k = 0; k < 4; ++k)
    if (look.free[static_cast<size_t>(k)]) result.growth[k] = std::sqrt(spread(k, k) / plain(k, k));
  result.good = result.shift.allFinite() && result.growth.allFinite();
  return result;
}

}  // namespace heron
