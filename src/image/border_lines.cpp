#include "heron/image/components.hpp"

namespace heron {

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
