#include "fill.hpp"

namespace heron::render {
namespace {

/// Signed areas of edges, gathered so that a running sum along a row gives the coverage (the way font
/// rasterisers do it).
class AreaSum {
 public:
  AreaSum(int x0, int y0, int width, int height)
      : x0_(x0),
        y0_(y0),
        width_(width),
        height_(height),
        sums_(static_cast<size_t>((width + 2) * height), 0.0) {}

  void add_edge(Point2 a, Point2 b) {
    a = a - Point2{static_cast<double>(x0_), static_cast<double>(y0_)};
    b = b - Point2{static_cast<double>(x0_), static_cast<double>(y0_)};
    if (a.y == b.y) return;
    const double sign = a.y < b.y ? 1.0 : -1.0;
    if (a.y > b.y) std::swap(a, b);
    const double slope = (b.x - a.x) / (b.y - a.y);
    const int first = std::max(0, static_cast<int>(std::floor(a.y)));
    const int last = std::min(height_ - 1, static_cast<int>(std::ceil(b.y)) - 1);
    for (int y = first; y <= last; ++y) {
      const double top = std::max(a.y, static_cast<double>(y)),
                   bottom = std::min(b.y, static_cast<double>(y + 1));
      if (bottom <= top) continue;
      add_in_row(y, a.x + slope * (top - a.y), a.x + slope * (bottom - a.y), sign * (bottom - top));
    }
  }

  void blend(ImageView<float> canvas, float value) const {
    for (int y = 0; y < height_; ++y) {
      const double* sum = &sums_[static_cast<size_t>(y * (width_ + 2))];
      float* out = canvas.row(y + y0_) + x0_;
      double covered = 0;
      for (int x = 0; x < width_; ++x) {
        covered += sum[x];
        const auto share = static_cast<float>(std::min(1.0, std::abs(covered)));
        if (share > 1e-7f) out[x] += share * (value - out[x]);
      }
    }
  }

 private:
  /// An edge piece inside one row, from x = from to x = to, of height `height` with sign.
  void add_in_row(int y, double from, double to, double height) {
    if (from > to) std::swap(from, to);
    const double right = width_;
    if (from >= right) return add_cell(y, width_, 0, height);
    if (to <= 0) return add_cell(y, 0, 0, height);
    if (from < 0 || to > right) {  // split where the piece leaves the canvas
      const double per_x = height / (to - from);
      if (from < 0) add_cell(y, 0, 0, per_x * -from);
      if (to > right) add_cell(y, width_, 0, per_x * (to - right));
      const double a = std::max(0.0, from), b = std::min(right, to);
      return add_inside(y, a, b, per_x * (b - a));
    }
    add_inside(y, from, to, height);
  }

  void add_inside(int y, double from, double to, double height) {
    const int first = std::min(width_ - 1, static_cast<int>(from));
    const int last = std::min(width_ - 1, std::max(first, static_cast<int>(std::ceil(to)) - 1));
    if (first == last) return add_cell(y, first, 0.5 * (from + to) - first, height);
    const double per_x = height / (to - from);
    for (int x = first; x <= last; ++x) {
      const double a = std::max(from, static_cast<double>(x)), b = std::min(to, static_cast<double>(x + 1));
      add_cell(y, x, 0.5 * (a + b) - x, per_x * (b - a));
    }
  }

  /// An edge at `offset` from the cell's left side covers what is right of it.
  void add_cell(int y, int x, double offset, double height) {
    double* sum = &sums_[static_cast<size_t>(y * (width_ + 2) + x)];
    sum[0] += height * (1 - offset);
    sum[1] += height * offset;
  }

  int x0_, y0_, width_, height_;
  std::vector<double> sums_;
};

}  // namespace

void fill_exactly(ImageView<float> canvas, const std::vector<std::vector<Point2>>& loops, float value) {
  double x0 = canvas.width(), x1 = 0, y0 = canvas.height(), y1 = 0;
  for (const auto& loop : loops)
    for (Point2 p : loop) {
      x0 = std::min(x0, p.x), x1 = std::max(x1, p.x);
      y0 = std::min(y0, p.y), y1 = std::max(y1, p.y);
    }
  const int left = static_cast<int>(std::floor(std::max(0.0, x0))),
            top = static_cast<int>(std::floor(std::max(0.0, y0)));
  const int right = static_cast<int>(std::ceil(std::min<double>(canvas.width(), x1)));
  const int bottom = static_cast<int>(std::ceil(std::min<double>(canvas.height(), y1)));
  if (right <= left || bottom <= top) return;
  AreaSum area(left, top, right - left, bottom - top);
  for (const auto& loop : loops)
    for (size_t i = 0; i < loop.size(); ++i) area.add_edge(loop[i], loop[(i + 1) % loop.size()]);
  area.blend(canvas, value);
}

}  // namespace heron::render
