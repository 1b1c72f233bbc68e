#include "blob.hpp"

#include <algorithm>
#include <cmath>

#include "border_share.hpp"
#include "geometry/linear.hpp"
#include "heron/locate/names.hpp"

namespace heron {
namespace {

/// Adds pixel (x, y), of which `share` belongs to the region.
void add_share(Component& sums, double x, double y, double share) {
  sums.area += share, sums.x += share * x, sums.y += share * y;
  sums.xx += share * x * x, sums.xy += share * x * y, sums.yy += share * y * y;
}

}  // namespace

Blob blob_of(const ImageView<const Rgb>& picture, const Image<uint8_t>& mask, const Component& c, bool fill) {
  Blob blob{.shape = c, .color_area = c.area, .pixels = c.area, .spread = {}, .outline = {}};
  Image<uint8_t> alone = component_alone(mask, c);
  if (fill) blob.pixels += static_cast<double>(fill_holes(alone));
  const int left = c.left - 1, top = c.top - 1;
  Component& s = blob.shape;
  s.area = s.x = s.y = s.xx = s.xy = s.yy = 0;
  // Sums about the box's middle keep their digits.
  const double middle_x = 0.5 * (c.left + c.right), middle_y = 0.5 * (c.top + c.bottom);
  const BorderColors border =
      border_shares(picture, alone, left, top, [&](int first, int y, const std::vector<float>& shares) {
        for (size_t i = 0; i < shares.size(); ++i)
          if (shares[i] != 0)
            add_share(s, first + static_cast<double>(i) - middle_x, y - middle_y, shares[i]);
      });
  if (s.area <= 0) s.area = 1;
  blob.contrast = border.contrast;
  blob.uneven = border.uneven, blob.uneven_by_noise = border.uneven_by_noise;
  s.x /= s.area, s.y /= s.area;
  s.xx = s.xx / s.area - s.x * s.x, s.xy = s.xy / s.area - s.x * s.y, s.yy = s.yy / s.area - s.y * s.y;
  s.x += middle_x, s.y += middle_y;
  for (auto& line : border_lines(alone))
    if (line.size() > blob.outline.points.size()) blob.outline.points = std::move(line);
  auto& points = blob.outline.points;
  for (Point2& p : points) p += Point2{static_cast<double>(left), static_cast<double>(top)};
  // Along the border, step by step, for what its pixels weigh in the centroid.
  for (size_t i = 0; i < points.size(); ++i) {
    const Point2 a = points[i], b = points[(i + 1) % points.size()];
    const Point2 from = (a + b) * 0.5 - Point2{s.x, s.y};
    const double length = distance(a, b);
    blob.spread.x += length * from.x * from.x, blob.spread.y += length * from.y * from.y;
  }
  return blob;
}

namespace {

/// Sigma of the direction of the longer axis, radians: what the border's pixels move the mixed second moment
/// by.
double axis_sigma(const Blob& blob, const SymmetricEigen& axes, double pixel_variance) {
  const Component& c = blob.shape;
  const auto& points = blob.outline.points;
  double sum = 0;
  for (size_t i = 0; i < points.size(); ++i) {
    const Point2 a = points[i], b = points[(i + 1) % points.size()], from = (a + b) * 0.5 - Point2{c.x, c.y};
    const double along = from.x * axes.vectors(0, 1) + from.y * axes.vectors(1, 1),
                 across = from.x * axes.vectors(0, 0) + from.y * axes.vectors(1, 0);
    sum += distance(a, b) * along * across * along * across;
  }
  return std::sqrt(pixel_variance * sum) / c.area / std::max(axes.values[1] - axes.values[0], 1e-9);
}

}  // namespace

Detection detection_of(const Blob& blob, const std::string& name, double noise) {
  const Component& c = blob.shape;
  Detection s{.target = name, .x = c.x, .y = c.y};
  Eigen::Matrix2d moments;
  moments << c.xx + 1.0 / 12, c.xy, c.xy, c.yy + 1.0 / 12;
  const SymmetricEigen axes = eigen_symmetric(moments);
  const double across = std::sqrt(std::max(axes.values[0], 1e-9)),
               along = std::sqrt(std::max(axes.values[1], 1e-9));
  // A pixel's length of border: noise of the six pixels that are mixed, and of the colors on both sides, each
  // the mean of about a hundred pixels, that 17 such lengths share (2 x 9 x 17 / 100). Colors that are uneven
  // beside the border are so across it, too: they move it along stretches by what they differ over the three
  // pixels on either side that are mixed.
  constexpr double mixed = 3, segment = 22;
  const double channel_noise = 1.5 * noise;
  const double noise_share = blob.contrast > 0 ? channel_noise / blob.contrast : 0.3;
  const double uneven = std::max(0.0, blob.uneven - channel_noise * channel_noise * blob.uneven_by_noise);
  const double uneven_share = blob.contrast > 0 ? uneven / (blob.contrast * blob.contrast) : 0;
  const double pixel_variance =
      0.001 + 9 * noise_share * noise_share + segment * mixed * mixed * uneven_share;
  s.sigma.x = std::sqrt(pixel_variance * blob.spread.x) / c.area;
  s.sigma.y = std::sqrt(pixel_variance * blob.spread.y) / c.area;
  const double angle_noise = axis_sigma(blob, axes, pixel_variance);
  // Round is what noise of its border could have turned anywhere.
  s.has_angle = along > 1.06 * across && angle_noise < 0.2;
  if (s.has_angle) {
    Angle angle = radians(std::atan2(axes.vectors(1, 1), axes.vectors(0, 1))).wrapped();
    if (angle.degrees() > 90) angle = angle - degrees(180);
    if (angle.degrees() <= -90) angle = angle + degrees(180);
    s.angle = angle;
    s.sigma.angle = radians(angle_noise);
  }
  s.score = 100 * blob.color_area / std::max(blob.pixels, 1.0), s.contrast = blob.contrast;
  s.measurements = {{measurement::area, c.area, MeasurementUnit::square_pixels},
                    {measurement::color_area, blob.color_area},
                    {measurement::length, 4 * along},  // of the ellipse with these moments
                    {measurement::width, 4 * across},
                    {measurement::box_x, c.left - 0.5},
                    {measurement::box_y, c.top - 0.5},
                    {measurement::box_width, c.right - c.left + 1.0},
                    {measurement::box_height, c.bottom - c.top + 1.0}};
  s.contours.push_back(blob.outline);
  // How far its border reaches along either axis.
  const Point2 middle{c.x, c.y};
  for (const auto& [extent, column] : {std::pair{"length", 1}, {"width", 0}}) {
    const Point2 axis{axes.vectors(0, column), axes.vectors(1, column)};
    double low = 0, high = 0;
    for (const Point2& p : blob.outline.points)
      low = std::min(low, dot(p - middle, axis)), high = std::max(high, dot(p - middle, axis));
    s.lengths.push_back({extent, middle + axis * low, middle + axis * high, 0.3});
  }
  return s;
}

}  // namespace heron
