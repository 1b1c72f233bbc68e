#pragma once
#include <functional>
#include <vector>

#include "geometry/least_squares.hpp"
#include "heron/geometry/homography.hpp"

namespace heron {

/// A homography by least squares on what is seen.
struct HomographyFit {
  Homography pixel_from_world;  ///< its last element is 1
  LeastSquaresFit fit;          ///< of its first eight elements, row by row
};

/// Where a homography makes a world point appear.
using Appearance = std::function<Point2(const Homography&, Point2 world)>;

/// From a start whose last element is not 0, over pairs of a world point and a pixel.
HomographyFit fit_homography(const Homography& start, const std::vector<Point2>& world,
                             const std::vector<Point2>& pixel, const Appearance& appears);

}  // namespace heron
