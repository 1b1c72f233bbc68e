#include "homography_fit.hpp"

namespace heron {
namespace {

Homography homography_of(const Eigen::VectorXd& x) {
  Homography h;
  h << x[0], x[1], x[2], x[3], x[4], x[5], x[6], x[7], 1;
  return h;
}

}  // namespace

HomographyFit fit_homography(const Homography& start, const std::vector<Point2>& world,
                             const std::vector<Point2>& pixel, const Appearance& appears) {
  const Homography h = start / start(2, 2);
  Eigen::VectorXd x(8);
  x << h(0, 0), h(0, 1), h(0, 2), h(1, 0), h(1, 1), h(1, 2), h(2, 0), h(2, 1);
  HomographyFit result;
  result.fit = solve_least_squares(
      [&](const Eigen::VectorXd& at, Eigen::VectorXd& r) {
        const Homography here = homography_of(at);
        for (size_t i = 0; i < world.size(); ++i) {
          const Point2 d = pixel[i] - appears(here, world[i]);
          r[static_cast<Eigen::Index>(2 * i)] = d.x, r[static_cast<Eigen::Index>(2 * i + 1)] = d.y;
        }
      },
      x, static_cast<int>(2 * world.size()));
  result.pixel_from_world = homography_of(result.fit.x);
  return result;
}

}  // namespace heron
