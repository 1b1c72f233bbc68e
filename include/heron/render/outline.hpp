#pragma once
#include <vector>

#include "heron/base/pose.hpp"
#include "heron/geometry/ring_shape.hpp"

namespace heron::render {

/// Closed loops of points in millimetres. What lies inside an odd number of loops belongs to the shape when
/// holes run against their border. The polygon is the truth: its area is filled exactly.
struct Outline {
  std::vector<std::vector<Point2>> loops;
};

Outline disc(double radius_mm, Point2 centre = {});
Outline rectangle(double width_mm, double height_mm, Point2 centre = {});
Outline rounded_rectangle(double width_mm, double height_mm, double corner_mm);
Outline hexagon(double radius_mm);
Outline kite(double length_mm, double width_mm);     ///< its tip towards +x
Outline crescent(double radius_mm, double bite_mm);  ///< a disc bitten by another of 0.85 its radius, from +x
Outline rosette(double radius_mm, int lobes, double depth_mm);  ///< scalloped edge
Outline leaf(double length_mm,
             double width_mm);  ///< tip towards +x; its sides differ, so its mirror image is another shape
Outline leaf_veins(double length_mm, double width_mm);  ///< thin strips on the leaf of that size

/// A ring mark's dark area.
inline Outline ring_mark(const RingShape& ring) { return {ring.loops()}; }

Outline mirrored(const Outline& outline);  ///< y becomes -y
Outline scaled(const Outline& outline, double factor);
Outline placed(const Outline& outline, const Pose2& pose);

}  // namespace heron::render
