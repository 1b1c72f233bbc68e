#pragma once
#include <variant>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron {

/// An upright box in picture coordinates: lengths x to x + width and y to y + height.
struct Box {
  double x = 0, y = 0, width = 0, height = 0;
  Point2 centre() const { return {x + width / 2, y + height / 2}; }
};

/// A set of points in a picture, put together from shapes that are added and cut out in order.
/// Shapes are continuous; a pixel belongs to the region when its centre does. A rectangle's first
/// edge belongs to it, its last does not, so two that share an edge share no pixel.
class Region {
 public:
  Region() = default;  ///< holds nothing

  /// Each throws Error{invalid_argument} when a size is not positive or a value is not finite.
  static Region rectangle(const Box& box);
  static Region rectangle(Point2 centre, double width, double height, Angle turned);
  static Region ellipse(Point2 centre, double radius_x, double radius_y, Angle turned = {});
  static Region polygon(std::vector<Point2> corners);  ///< three or more corners; even-odd inside
  static Region ring(Point2 centre, double inner_radius, double outer_radius);

  Region& add(const Region& other);
  Region& subtract(const Region& other);

  bool empty() const { return steps_.empty(); }
  bool contains(Point2 p) const;
  /// The smallest box that holds every added shape (cut-outs do not shrink it).
  Box bounds() const;
  /// The corners of a region that is one rectangle or one polygon, in their order; else none.
  std::vector<Point2> corners() const;
  /// 255 where the pixel's centre lies in the region, else 0. Cost: pixels of the bounds times shapes.
  Image<uint8_t> mask(int width, int height) const;

 private:
  struct Rectangle {
    Point2 centre;
    double half_width, half_height;
    Angle turned;
  };
  struct Ellipse {
    Point2 centre;
    double radius_x, radius_y;
    Angle turned;
  };
  struct Polygon {
    std::vector<Point2> corners;
  };
  struct Ring {
    Point2 centre;
    double inner, outer;
  };
  using Shape = std::variant<Rectangle, Ellipse, Polygon, Ring>;
  struct Step {
    Shape shape;
    bool adds;
  };

  static Region of(Shape shape);
  static bool holds(const Shape& shape, Point2 p);
  static Box box_of(const Shape& shape);
  std::vector<Step> steps_;
};

}  // namespace heron
