#include "polyline.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "heron/base/error.hpp"

namespace heron {
namespace {

double twice_area(const std::vector<Point2>& corners) {
  double sum = 0;
  for (size_t i = 0; i < corners.size(); ++i) sum += cross(corners[i], corners[(i + 1) % corners.size()]);
  return sum;
}

/// Whether two segments have a point in common.
bool touch(Point2 a, Point2 b, Point2 c, Point2 d) {
  const auto side = [](Point2 p, Point2 q, Point2 r) { return cross(q - p, r - p); };
  const double abc = side(a, b, c), abd = side(a, b, d), cda = side(c, d, a), cdb = side(c, d, b);
  if (abc * abd < 0 && cda * cdb < 0) return true;
  const auto between = [](Point2 p, Point2 q, Point2 r, double turn) {
    return turn == 0 && dot(r - p, r - q) <= 0;
  };
  return between(a, b, c, abc) || between(a, b, d, abd) || between(c, d, a, cda) || between(c, d, b, cdb);
}

}  // namespace

Point2 Polyline::inwards(size_t side) const {
  const Point2 u = along(side), right{-u.y, u.x};
  return closed && twice_area(corners) < 0 ? -right : right;
}

double Polyline::total_length() const {
  double sum = 0;
  for (size_t i = 0; i < sides(); ++i) sum += length(i);
  return sum;
}

Box Polyline::bounds() const {
  Point2 low = corners[0], high = corners[0];
  for (const Point2& p : corners) {
    low = {std::min(low.x, p.x), std::min(low.y, p.y)};
    high = {std::max(high.x, p.x), std::max(high.y, p.y)};
  }
  return {low.x, low.y, high.x - low.x, high.y - low.y};
}

Polyline polyline_of(const std::vector<double>& numbers, bool open) {
  if (numbers.size() < 6 || numbers.size() % 2 != 0)
    fail_argument(
        fmt::format("a polyline of {} numbers must be x, y of three corners or more", numbers.size()));
  Polyline line{.corners = {}, .closed = !open};
  for (size_t i = 0; i < numbers.size(); i += 2) {
    const Point2 p{numbers[i], numbers[i + 1]};
    if (!is_finite(p) || std::abs(p.x) > 1e5 || std::abs(p.y) > 1e5)
      fail_argument("a polyline's corners must be finite, within 100000 pixels");
    line.corners.push_back(p);
  }
  for (size_t i = 0; i < line.sides(); ++i)
    if (line.length(i) < 12)
      fail_argument(
          fmt::format("side {} of the polyline is {:.1f} pixels long; a side must have at least 12. A closed "
                      "one joins the last corner to the first by itself",
                      i + 1, line.length(i)));
  for (size_t i = 0; i < line.sides(); ++i)
    for (size_t k = i + 1; k < line.sides(); ++k) {
      const bool next = k == i + 1, last = line.closed && i == 0 && k + 1 == line.sides();
      if ((next || last) && dot(line.along(i), line.along(k)) < -0.999)
        fail_argument(fmt::format("sides {} and {} of the polyline lie on each other", i + 1, k + 1));
      if (!next && !last && touch(line.from(i), line.to(i), line.from(k), line.to(k)))
        fail_argument(fmt::format(
            "sides {} and {} of the polyline cross; give its corners in the order in which they follow "
            "each other round the part",
            i + 1, k + 1));
    }
  return line;
}

std::vector<double> numbers_of(const Polyline& line) {
  std::vector<double> numbers;
  for (const Point2& p : line.corners) numbers.insert(numbers.end(), {p.x, p.y});
  return numbers;
}

Polyline BorderPose::of(const Polyline& taught, Point2 origin) const {
  Polyline posed = taught;
  for (Point2& p : posed.corners) p = of(p, origin);
  return posed;
}

std::optional<Point2> meeting(Point2 a, Point2 along_a, Point2 b, Point2 along_b) {
  const double turn = cross(along_a, along_b);
  if (std::abs(turn) < 0.087) return std::nullopt;
  return a + along_a * (cross(b - a, along_b) / turn);
}

}  // namespace heron
