#include <algorithm>
#include <array>
#include <cmath>

#include "heron/image/gradient.hpp"
#include "heron/image/pyramid.hpp"
#include "rim.hpp"

namespace heron {
namespace {

/// The level on which a circle of that radius is 7 to 14 pixels wide to each side: round enough to tell, and
/// small enough to be quick.
int level_for(const PreparedPicture& prepared, double radius) {
  const int level = static_cast<int>(std::floor(std::log2(std::max(radius, 1.0) / 7)));
  return std::clamp(level, 0, prepared.level_count() - 1);
}

struct Peak {
  int x, y;
  int votes;
};

/// Sums of 3 x 3 votes that no neighbour within `apart` beats.
std::vector<Peak> peaks_of(const Image<uint16_t>& votes, int least, int apart) {
  Image<uint16_t> sums(votes.width(), votes.height());
  for (int y = 1; y < votes.height() - 1; ++y) {
    const uint16_t *a = votes.row(y - 1), *b = votes.row(y), *c = votes.row(y + 1);
    uint16_t* sum = sums.row(y);
    for (int x = 1; x < votes.width() - 1; ++x)
      sum[x] = static_cast<uint16_t>(std::min(
          a[x - 1] + a[x] + a[x + 1] + b[x - 1] + b[x] + b[x + 1] + c[x - 1] + c[x] + c[x + 1], 65535));
  }
  std::vector<Peak> peaks;
  for (int y = 1; y < sums.height() - 1; ++y) {
    const uint16_t* row = sums.row(y);
    for (int x = 1; x < sums.width() - 1; ++x) {
      const int here = row[x];
      if (here < least) continue;
      if (here < row[x - 1] || here < row[x + 1] || here < sums(x, y - 1) || here < sums(x, y + 1)) continue;
      peaks.push_back({x, y, here});
    }
  }
  std::stable_sort(peaks.begin(), peaks.end(),
                   [](const Peak& a, const Peak& b) { return a.votes > b.votes; });
  std::vector<Peak> kept;
  for (const Peak& p : peaks) {
    const auto near = [&](const Peak& q) {
      return std::abs(p.x - q.x) <= apart && std::abs(p.y - q.y) <= apart;
    };
    if (std::none_of(kept.begin(), kept.end(), near)) kept.push_back(p);
    if (kept.size() >= 512) break;
  }
  return kept;
}

}  // namespace

std::vector<RimGuess> vote_for_rims(const PreparedPicture& prepared, const RimSearch& search) {
  const double middle = 0.5 * (search.min_radius + search.max_radius);
  const int level = level_for(prepared, middle);
  const double scale = std::ldexp(1.0, -level);
  const double least = search.min_radius * scale, most = search.max_radius * scale;
  const Image<uint8_t>& picture = prepared.level(level);
  // Where centres may lie on that level, and the picture that can vote for them.
  const Point2 from = to_level({search.centres.x, search.centres.y}, level),
               to = to_level(
                   {search.centres.x + search.centres.width, search.centres.y + search.centres.height},
                   level);
  const int reach = static_cast<int>(std::ceil(most)) + 3;
  const int x0 = std::max(0, static_cast<int>(std::floor(from.x)) - 1 - reach),
            y0 = std::max(0, static_cast<int>(std::floor(from.y)) - 1 - reach),
            x1 = std::min(picture.width(), static_cast<int>(std::ceil(to.x)) + 2 + reach),
            y1 = std::min(picture.height(), static_cast<int>(std::ceil(to.y)) + 2 + reach);
  if (x1 - x0 < 3 || y1 - y0 < 3) return {};
  const bool whole = x1 - x0 == picture.width() && y1 - y0 == picture.height();
  Gradients own;
  if (!whole)
    own = gradients(ImageView<const uint8_t>(picture.row(y0) + x0, x1 - x0, y1 - y0, picture.stride()));
  const Gradients& g = whole ? prepared.gradients(level) : own;

  const double strongest_blur = level == 0 ? 0.5 : 0.6;  // of a rim's contrast, what two pixels show of it
  const int strong = std::max(2, static_cast<int>(std::lround(std::max(strongest_blur * search.min_contrast,
                                                                       2.5 * prepared.noise_sigma(level)))));
  static const std::array<Point2, 256> direction = [] {
    std::array<Point2, 256> all;
    for (size_t i = 0; i < 256; ++i) all[i] = unit(degrees(360.0 * static_cast<double>(i) / 256));
    return all;
  }();
  const double way_back =
      search.dark ? -1 : 1;  // of a hole brightness grows outwards: its centre lies behind
  const int steps = std::max(1, static_cast<int>(std::ceil(most - least + 0.5)));
  Image<uint16_t> votes(x1 - x0, y1 - y0);
  for (int y = 1; y < votes.height() - 1; ++y) {
    const uint8_t *size = g.size.row(y), *way = g.direction.row(y);
    for (int x = 1; x < votes.width() - 1; ++x) {
      if (size[x] < strong) continue;
      const Point2 d = direction[way[x]] * way_back;
      for (int k = 0; k < steps; ++k) {
        const double r = steps == 1 ? 0.5 * (least + most) : least + (most - least) * k / (steps - 1);
        const int u = static_cast<int>(x + r * d.x + 0.5), v = static_cast<int>(y + r * d.y + 0.5);
        if (votes.view().holds(u, v)) ++votes(u, v);
      }
    }
  }
  // A rim votes about twice for every pixel of its length, since it is two pixels wide.
  const double length = 2 * std::numbers::pi * 0.5 * (least + most);
  std::vector<RimGuess> guesses;
  for (const Peak& p : peaks_of(votes, static_cast<int>(search.min_votes * length),
                                std::max(1, static_cast<int>(0.4 * least)))) {
    const Point2 at = from_level({p.x + static_cast<double>(x0), p.y + static_cast<double>(y0)}, level);
    const double slack = 2 / scale;
    if (at.x < search.centres.x - slack || at.y < search.centres.y - slack ||
        at.x > search.centres.x + search.centres.width + slack ||
        at.y > search.centres.y + search.centres.height + slack)
      continue;
    guesses.push_back({at, middle, p.votes / length});
    if (static_cast<int>(guesses.size()) == search.most) break;
  }
  return guesses;
}

}  // namespace heron
