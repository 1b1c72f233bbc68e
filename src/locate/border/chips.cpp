#include "chips.hpp"

#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "heron/base/median.hpp"
#include "heron/image/components.hpp"
#include "heron/locate/names.hpp"

namespace heron {
namespace {

/// A pixel of the strip, as a side sees it.
struct StripPixel {
  int x = 0, y = 0;
  double along = 0;  ///< -1 to 1 from end to end of the side
  double value = 0;
};

/// Mean of three by three, which keeps single noisy pixels from being chips and hardly moves a chip's edge.
double mean_around(const Image<uint8_t>& picture, int x, int y) {
  int sum = 0, count = 0;
  for (int v = std::max(0, y - 1); v <= std::min(picture.height() - 1, y + 1); ++v)
    for (int u = std::max(0, x - 1); u <= std::min(picture.width() - 1, x + 1); ++u)
      sum += picture(u, v), ++count;
  return static_cast<double>(sum) / count;
}

/// Intact brightness along a side: value = terms . (1, along, along^2).
Eigen::Vector3d intact_brightness(const std::vector<StripPixel>& pixels) {
  std::vector<double> values;
  for (const StripPixel& p : pixels) values.push_back(p.value);
  std::vector<FitRow<3>> rows;
  for (const StripPixel& p : pixels) rows.push_back({{1, p.along, p.along * p.along}, p.value});
  return fit_robustly<3>(rows, {median(values), 0, 0}, {.least = 4, .rounds = 12}).unknowns;
}

/// A side with what is asked of it for every pixel.
struct SideFrame {
  SideFrame(const Polyline& line, size_t side)
      : from(line.from(side)),
        along(line.along(side)),
        inwards(line.inwards(side)),
        length(line.length(side)) {}
  Point2 from, along, inwards;
  double length;

  double distance_to(Point2 p) const {
    const Point2 d = p - from;
    const double t = dot(d, along), beyond = t - std::clamp(t, 0.0, length), across = dot(d, inwards);
    return std::sqrt(beyond * beyond + across * across);
  }
};

}  // namespace

std::vector<Defect> chips_along(const PreparedPicture& prepared, const Polyline& line,
                                const std::vector<bool>& seen, const BorderSettings& s) {
  const Image<uint8_t>& picture = prepared.level(0);
  const double from = s.chip_inset, to = s.chip_inset + s.chip_width,
               margin = std::max(std::abs(from), std::abs(to)) + 2;
  const Box box = line.bounds();
  const int x0 = std::max(0, static_cast<int>(box.x - margin)),
            y0 = std::max(0, static_cast<int>(box.y - margin));
  const int x1 = std::min(picture.width(), static_cast<int>(box.x + box.width + margin) + 1),
            y1 = std::min(picture.height(), static_cast<int>(box.y + box.height + margin) + 1);
  if (x1 <= x0 || y1 <= y0) return {};
  std::vector<SideFrame> sides;
  for (size_t side = 0; side < line.sides(); ++side) sides.emplace_back(line, side);
  const double clear = from * to > 0 ? std::min(std::abs(from), std::abs(to)) : 0;
  std::vector<std::vector<StripPixel>> strip(line.sides());
  for (size_t side = 0; side < line.sides(); ++side) {
    if (!seen[side]) continue;
    const SideFrame& own = sides[side];
    const Point2 a = own.from, b = line.to(side);
    const int left = std::max(x0, static_cast<int>(std::min(a.x, b.x) - margin)),
              right = std::min(x1, static_cast<int>(std::max(a.x, b.x) + margin) + 1);
    const int top = std::max(y0, static_cast<int>(std::min(a.y, b.y) - margin)),
              bottom = std::min(y1, static_cast<int>(std::max(a.y, b.y) + margin) + 1);
    for (int y = top; y < bottom; ++y)
      for (int x = left; x < right; ++x) {
        const Point2 p{static_cast<double>(x), static_cast<double>(y)};
        const double inwards = dot(p - own.from, own.inwards), t = dot(p - own.from, own.along);
        if (inwards < from || inwards > to || t < 0 || t > own.length) continue;
        // The strip of a corner belongs to the nearer side, and stays clear of both.
        const double near = std::abs(inwards);
        bool others = false;
        for (size_t k = 0; k < sides.size() && !others; ++k) {
          if (k == side) continue;
          const double distance = sides[k].distance_to(p);
          others = clear > distance || distance < near || (distance == near && k < side);
        }
        if (!others) strip[side].push_back({x, y, 2 * t / own.length - 1, mean_around(picture, x, y)});
      }
  }
  Image<uint8_t> damaged(x1 - x0, y1 - y0);
  Image<float> change(x1 - x0, y1 - y0);  // grey levels off what is intact, where it is damaged
  for (const auto& pixels : strip) {
    if (pixels.size() < 16) continue;
    const Eigen::Vector3d intact = intact_brightness(pixels);
    for (const StripPixel& p : pixels) {
      const double off = p.value - intact.dot(Eigen::Vector3d(1, p.along, p.along * p.along));
      const bool counts = s.chip_tone == ChipTone::darker     ? off < -s.chip_change
                          : s.chip_tone == ChipTone::brighter ? off > s.chip_change
                                                              : std::abs(off) > s.chip_change;
      if (!counts) continue;
      damaged(p.x - x0, p.y - y0) = 255;
      change(p.x - x0, p.y - y0) = static_cast<float>(std::abs(off));
    }
  }
  std::vector<Defect> chips;
  for (const Component& c : components(damaged)) {
    Defect chip{.what = defect::chip, .x = c.x + x0, .y = c.y + y0};
    const Point2 centre{chip.x, chip.y};
    const SideFrame& nearest = *std::min_element(
        sides.begin(), sides.end(),
        [&](const auto& p, const auto& q) { return p.distance_to(centre) < q.distance_to(centre); });
    const Point2 u = nearest.along, n = nearest.inwards;
    double low_u = 1e9, high_u = -1e9, low_n = 1e9, high_n = -1e9;
    const Image<uint8_t> alone = component_alone(damaged, c);
    std::vector<float> changes;
    for (int y = 0; y < alone.height(); ++y)
      for (int x = 0; x < alone.width(); ++x)
        if (alone(x, y)) {
          const Point2 p{x + c.left - 1.0, y + c.top - 1.0};
          changes.push_back(change(x + c.left - 1, y + c.top - 1));
          low_u = std::min(low_u, dot(p, u)), high_u = std::max(high_u, dot(p, u));
          low_n = std::min(low_n, dot(p, n)), high_n = std::max(high_n, dot(p, n));
        }
    chip.length = high_u - low_u + 1, chip.depth = high_n - low_n + 1;
    // Pixels of its rim count in part, as they do in a blurred picture of it.
    const auto deep = changes.begin() + static_cast<ptrdiff_t>(changes.size() * 9 / 10);
    std::nth_element(changes.begin(), deep, changes.end());
    const float full = *deep;
    for (const float v : changes) chip.area += std::min(1.0f, v / full);
    if (chip.area >= s.min_chip) chips.push_back(chip);
  }
  std::stable_sort(chips.begin(), chips.end(),
                   [](const Defect& a, const Defect& b) { return a.area > b.area; });
  return chips;
}

std::vector<Contour> strip_lines(const Polyline& line, const BorderSettings& s) {
  std::vector<Contour> lines;
  if (s.chip_width <= 0) return lines;
  for (size_t side = 0; side < line.sides(); ++side)
    for (const double inset : {s.chip_inset, s.chip_inset + s.chip_width}) {
      const Point2 n = line.inwards(side) * inset;
      lines.push_back({.points = {line.from(side) + n, line.to(side) + n}, .closed = false, .seen = false});
    }
  return lines;
}

}  // namespace heron
