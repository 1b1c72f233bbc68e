#include "lattice.hpp"

#include <algorithm>
#include <deque>
#include <limits>
#include <numeric>
#include <optional>

namespace heron {
namespace {

/// Points sorted into square cells, for nearest-point questions.
class Cells {
 public:
  explicit Cells(const std::vector<Point2>& points) : points_(points) {
    double x0 = points[0].x, x1 = x0, y0 = points[0].y, y1 = y0;
    for (Point2 p : points)
      x0 = std::min(x0, p.x), x1 = std::max(x1, p.x), y0 = std::min(y0, p.y), y1 = std::max(y1, p.y);
    origin_ = {x0, y0};
    size_ = std::max(1.0, std::sqrt((x1 - x0 + 1) * (y1 - y0 + 1) / static_cast<double>(points.size())));
    columns_ = static_cast<int>((x1 - x0) / size_) + 1, rows_ = static_cast<int>((y1 - y0) / size_) + 1;
    cells_.resize(static_cast<size_t>(columns_ * rows_));
    for (size_t i = 0; i < points.size(); ++i) {
      const auto [u, v] = cell_of(points[i]);
      cells_[static_cast<size_t>(v * columns_ + u)].push_back(i);
    }
  }

  template <class Visit>
  void near(Point2 p, double radius, const Visit& visit) const {
    const auto [u0, v0] = cell_of(p - Point2{radius, radius});
    const auto [u1, v1] = cell_of(p + Point2{radius, radius});
    for (int v = v0; v <= v1; ++v)
      for (int u = u0; u <= u1; ++u)
        for (size_t i : cells_[static_cast<size_t>(v * columns_ + u)])
          if (distance(points_[i], p) <= radius) visit(i);
  }

  std::optional<size_t> nearest(Point2 p, double radius) const {
    std::optional<size_t> best;
    double least = std::numeric_limits<double>::infinity();
    near(p, radius, [&](size_t i) {
      const double d = distance(points_[i], p);
      if (d < least) least = d, best = i;
    });
    return best;
  }

  double size() const { return size_; }

 private:
  std::pair<int, int> cell_of(Point2 p) const {
    return {std::clamp(static_cast<int>((p.x - origin_.x) / size_), 0, columns_ - 1),
            std::clamp(static_cast<int>((p.y - origin_.y) / size_), 0, rows_ - 1)};
  }
  const std::vector<Point2>& points_;
  Point2 origin_;
  double size_ = 1;
  int columns_ = 1, rows_ = 1;
  std::vector<std::vector<size_t>> cells_;
};

struct Basis {
  Point2 u, v;
};

/// The same lattice by its shortest steps (Lagrange's reduction). Where the dot beside a seed is hidden, the
/// shortest steps seen are a side and a diagonal; the lattice they span would be numbered sheared.
Basis reduced(Basis b) {
  for (int i = 0; i < 4; ++i) {
    if (norm(b.v - b.u) < 0.98 * norm(b.v))
      b.v = b.v - b.u;
    else if (norm(b.v + b.u) < 0.98 * norm(b.v))
      b.v = b.v + b.u;
    else if (norm(b.v) < 0.98 * norm(b.u))
      std::swap(b.u, b.v);
  }
  return b;
}

/// The two shortest independent steps from a point at which the opposite neighbour is there as well.
std::optional<Basis> basis_at(const std::vector<Point2>& points, const Cells& cells, size_t seed) {
  std::vector<Point2> steps;
  cells.near(points[seed], 3 * cells.size(), [&](size_t i) {
    if (i != seed) steps.push_back(points[i] - points[seed]);
  });
  std::sort(steps.begin(), steps.end(), [](Point2 a, Point2 b) { return dot(a, a) < dot(b, b); });
  std::optional<Point2> first;
  for (Point2 step : steps) {
    if (!cells.nearest(points[seed] - step, 0.25 * norm(step))) continue;
    if (!first)
      first = step;
    else if (std::abs(cross(*first, step)) > 0.35 * norm(*first) * norm(step) &&
             norm(step) < 3 * norm(*first))
      return reduced({*first, step});
  }
  return std::nullopt;
}

Lattice grown_from(const std::vector<Point2>& points, const Cells& cells, size_t seed, const Basis& start) {
  Lattice lattice{{{0, 0}, seed}};
  std::vector<char> used(points.size(), 0);
  used[seed] = 1;
  struct Open {
    int i, j;
    Basis basis;
  };
  std::deque<Open> open{{0, 0, start}};
  while (!open.empty()) {
    const Open at = open.front();
    open.pop_front();
    const Point2 here = points[lattice.at({at.i, at.j})];
    for (const auto& [di, dj] : {std::pair{1, 0}, {-1, 0}, {0, 1}, {0, -1}}) {
      const std::pair next{at.i + di, at.j + dj};
      if (lattice.count(next)) continue;
      Point2 step = at.basis.u * di + at.basis.v * dj;
      if (const auto opposite = lattice.find({at.i - di, at.j - dj}); opposite != lattice.end())
        step = here - points[opposite->second];
      const auto found = cells.nearest(here + step, 0.3 * norm(step));
      if (!found || used[*found]) continue;
      used[*found] = 1;
      lattice.emplace(next, *found);
      const Point2 taken = points[*found] - here;
      Basis basis = at.basis;
      (di != 0 ? basis.u : basis.v) = taken * (di + dj);
      open.push_back({next.first, next.second, basis});
    }
  }
  return lattice;
}

/// Drops rim lines that hold less than half of what the fullest line holds, until none is left, then moves
/// the smallest indices to 0.
Lattice trimmed(Lattice lattice) {
  for (bool changed = true; changed && !lattice.empty();) {
    changed = false;
    for (const bool by_row : {false, true}) {
      std::map<int, int> counts;
      for (const auto& [at, index] : lattice) ++counts[by_row ? at.second : at.first];
      const int fullest = std::max_element(counts.begin(), counts.end(), [](const auto& a, const auto& b) {
                            return a.second < b.second;
                          })->second;
      for (const int line : {counts.begin()->first, counts.rbegin()->first})
        if (2 * counts[line] < fullest) {
          std::erase_if(lattice, [&](const auto& entry) {
            return (by_row ? entry.first.second : entry.first.first) == line;
          });
          changed = true;
          break;
        }
    }
  }
  if (lattice.empty()) return lattice;
  int i0 = std::numeric_limits<int>::max(), j0 = i0;
  for (const auto& [at, index] : lattice) i0 = std::min(i0, at.first), j0 = std::min(j0, at.second);
  Lattice moved;
  for (const auto& [at, index] : lattice) moved[{at.first - i0, at.second - j0}] = index;
  return moved;
}

}  // namespace

Lattice grow_lattice(const std::vector<Point2>& points) {
  if (points.size() < 4) return {};
  const Cells cells(points);
  Point2 middle;
  for (Point2 p : points) middle += p / static_cast<double>(points.size());
  std::vector<size_t> seeds(points.size());
  std::iota(seeds.begin(), seeds.end(), size_t{0});
  std::stable_sort(seeds.begin(), seeds.end(), [&](size_t a, size_t b) {
    return distance(points[a], middle) < distance(points[b], middle);
  });
  Lattice best;
  int tried = 0;
  for (size_t seed : seeds) {
    if (tried == 40 || 10 * best.size() > 9 * points.size()) break;
    const auto basis = basis_at(points, cells, seed);
    if (!basis) continue;
    ++tried;
    Lattice lattice = grown_from(points, cells, seed, *basis);
    if (lattice.size() > best.size()) best = std::move(lattice);
  }
  return trimmed(std::move(best));
}

}  // namespace heron
