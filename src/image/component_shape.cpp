#include "heron/image/components.hpp"

namespace heron {
namespace {

struct Pixel {
  int x, y;
};

/// Sets to `to` all pixels of value `from` that hang together with `start`.
int64_t flood(Image<uint8_t>& mask, Pixel start, uint8_t from, uint8_t to, bool diagonal) {
  std::vector<Pixel> open{start};
  mask(start.x, start.y) = to;
  int64_t count = 0;
  while (!open.empty()) {
    const Pixel p = open.back();
    open.pop_back();
    ++count;
    for (int dy = -1; dy <= 1; ++dy)
      for (int dx = -1; dx <= 1; ++dx) {
        const int x = p.x + dx, y = p.y + dy;
        if ((!diagonal && dx != 0 && dy != 0) || !mask.view().holds(x, y) || mask(x, y) != from) continue;
        mask(x, y) = to;
        open.push_back({x, y});
      }
  }
  return count;
}

constexpr uint8_t reached = 1, set = 255;  // while it is not known what hangs together

}  // namespace

Image<uint8_t> component_alone(const ImageView<const uint8_t>& mask, const Component& c) {
  Image<uint8_t> alone(c.right - c.left + 3, c.bottom - c.top + 3);
  for (int y = c.top; y <= c.bottom; ++y)
    for (int x = c.left; x <= c.right; ++x)
      if (mask(x, y)) alone(x - c.left + 1, y - c.top + 1) = reached;
  flood(alone, {c.first_x - c.left + 1, 1}, reached, set, true);  // others may lie in its box
  for (int y = 0; y < alone.height(); ++y)
    for (int x = 0; x < alone.width(); ++x)
      if (alone(x, y) == reached) alone(x, y) = 0;
  return alone;
}

int64_t fill_holes(Image<uint8_t>& mask) {
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) {
      const bool border = x == 0 || y == 0 || x == mask.width() - 1 || y == mask.height() - 1;
      if (border && mask(x, y) == 0) flood(mask, {x, y}, 0, reached, false);
    }
  int64_t filled = 0;
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) {
      filled += mask(x, y) == 0;
      mask(x, y) = mask(x, y) == reached ? 0 : set;
    }
  return filled;
}

std::vector<std::vector<Point2>> border_lines(const ImageView<const uint8_t>& mask) {
  const auto in = [&](int x, int y) { return mask.holds(x, y) && mask(x, y) != 0; };
  Image<uint8_t> walked(mask.width(), mask.height());  // upper edges of pixels
  std::vector<std::vector<Point2>> lines;
  // Directions of a walk along pixel edges: right, down, left, up; set pixels lie on its right.
  constexpr int step_x[] = {1, 0, -1, 0}, step_y[] = {0, 1, 0, -1};
  for (int y0 = 0; y0 < mask.height(); ++y0)
    for (int x0 = 0; x0 < mask.width(); ++x0) {
      if (!in(x0, y0) || in(x0, y0 - 1) || walked(x0, y0)) continue;
      std::vector<Point2> line;
      int x = x0, y = y0, way = 0;  // the corner at the upper left of pixel (x, y)
      do {
        if (way == 0) walked(x, y) = 1;
        x += step_x[way], y += step_y[way];
        // The pixels ahead on the left and on the right of the way; a diagonal neighbour belongs to the
        // region.
        const bool left = way == 0   ? in(x, y - 1)
                          : way == 1 ? in(x, y)
                          : way == 2 ? in(x - 1, y)
                                     : in(x - 1, y - 1);
        const bool right = way == 0   ? in(x, y)
                           : way == 1 ? in(x - 1, y)
                           : way == 2 ? in(x - 1, y - 1)
                                      : in(x, y - 1);
        const int next = left ? (way + 3) % 4 : right ? way : (way + 1) % 4;
        if (next != way) line.push_back({x - 0.5, y - 0.5});
        way = next;
      } while (x != x0 || y != y0 || way != 0);
      lines.push_back(std::move(line));
    }
  return lines;
}

}  // namespace heron
