#pragma once
#include <functional>
#include <string>

#include "heron/gauge/gauge.hpp"
#include "heron/geometry/mapping.hpp"
#include "heron/image/region.hpp"
#include "locate/scan/scan.hpp"

namespace heron {

/// Where the shapes of a gauge lie in this picture.
class Placement {
 public:
  /// As they were drawn.
  static Placement fixed() { return {}; }
  /// Drawn in millimetres along the user's axes.
  static Placement in_world(const Mapping& mapping, const Axes* axes);
  /// Moved with a part, from its reference pose to its present one, by the components that are followed.
  static Placement moved(const Similarity2& reference, const Similarity2& now, Follows follows);
  /// The same as a rigid motion on the work plane, `height_mm` above it.
  static Placement moved_on_plane(const Similarity2& reference, const Similarity2& now,
                                  const Mapping& mapping, double height_mm);
  /// Shifted further, so that the drawn point `drawn` lies at `seen`.
  Placement shifted(Point2 drawn, Point2 seen) const;

  Point2 at(Point2 drawn) const { return (motion_ ? motion_(drawn) : drawn) + shift_; }
  double scale_at(Point2 drawn) const;  ///< pixels of this picture a unit drawn
  Angle turn_at(Point2 drawn) const;    ///< of what was drawn along x
  bool mirrored_at(Point2 drawn) const;

  std::vector<double> band(const std::vector<double>& drawn) const;
  std::vector<double> ring(const std::vector<double>& drawn) const;

 private:
  std::function<Point2(Point2)> motion_;
  Point2 shift_;
};

/// The pixels of a shape in this picture: those whose centres it holds.
struct AreaPixels {
  int left = 0, top = 0;
  Image<uint8_t> mask;         ///< of the shape's box, cut to the picture
  std::vector<Point2> border;  ///< of the shape, for drawing
  double inside = 1;           ///< share of the shape that lies in the picture
  int64_t count = 0;           ///< pixels
};
/// Of the one of the four that is not empty.
struct AreaShape {
  const std::vector<double>&box, &disc, &ring, &polygon;
};
AreaPixels pixels_of(const AreaShape& shape, const Placement& placement, int width, int height);

}  // namespace heron
