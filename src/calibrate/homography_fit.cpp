#include "homography_fit.hpp"

namespace heron {
HomographyFit fit_homography(const Homography& start, const std::vector<Point2>& world,
                             const std::vector<Point2>& pixel, const Appearance& appears) {
  HomographyFit result;
  result.fit = solve_least_squares(
      [&](const Eigen::VectorXd& at, Eigen::VectorXd& r) {
        const Homography here = homography_of(at);
        for (size_t i = 0; i < world.size(); ++i) {
          const Point2 d = pixel[i] - appears(here, world[i]);
          r[static_cast<Eigen::Index>(2 * i)] = d.x, r[static_cast<Eigen::Index>(2 * i + 1)] = d.y;
        }
      },
      elements_of(start / start(2, 2)), static_cast<int>(2 * world.size()));
  result.pixel_from_world = homography_of(result.fit.x);
  return result;
}

}  // namespace heron
