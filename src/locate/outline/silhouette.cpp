#include "silhouette.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "image/parallel.hpp"

namespace heron {
namespace {

using Vector6 = Eigen::Matrix<double, 6, 1>;

Vector6 terms_at(double u, double v) {
  Vector6 t;
  t << 1, u, v, u * u, u * v, v * v;
  return t;
}

constexpr double background_value = 40;  // of the silhouette, where nothing differs

}  // namespace

BackdropLevel level_of(const ImageView<const uint8_t>& picture, const Image<uint8_t>* behind) {
  std::vector<FitRow<6>> samples;  // of the level
  const int step_x = std::max(1, picture.width() / 96), step_y = std::max(1, picture.height() / 96);
  std::vector<double> values;
  for (int y = step_y / 2; y < picture.height(); y += step_y)
    for (int x = step_x / 2; x < picture.width(); x += step_x) {
      const double factor = behind ? (*behind)(x, y) : 1;
      if (factor < 1) continue;
      values.push_back(picture(x, y) / factor);
      samples.push_back(
          {terms_at(share_of(x, picture.width()), share_of(y, picture.height())), values.back(), 1 / factor});
    }
  BackdropLevel level;
  if (samples.size() < 12) return level;
  // The start: where values are densest, as wide as the half of them that lies closest together.
  std::sort(values.begin(), values.end());
  const size_t half = values.size() / 2;
  size_t tightest = 0;
  for (size_t i = 0; i + half < values.size(); ++i)
    if (values[i + half] - values[i] < values[tightest + half] - values[tightest]) tightest = i;
  const std::vector<double> dense(values.begin() + static_cast<ptrdiff_t>(tightest),
                                  values.begin() + static_cast<ptrdiff_t>(tightest + half + 1));
  // From there down towards what the background itself scatters by, never below what a camera does.
  Vector6 start = Vector6::Zero();
  start[0] = dense[half / 2];
  const auto fit = fit_robustly<6>(samples, start,
                                   {.least = behind ? 0.03 : 3.0,
                                    .first = 3 * std::max(dense.back() - dense.front(), behind ? 0.02 : 3.0),
                                    .shrinks = 0.7,
                                    .rounds = 12,
                                    .sigmas_known = false});
  Eigen::Map<Vector6>(level.terms.data()) = fit.unknowns;
  return level;
}

Image<uint8_t> silhouette_of(const PreparedPicture& prepared, const SilhouetteBy& by) {
  const Image<uint8_t>& picture = prepared.level(0);
  const BackdropLevel level = level_of(picture, by.behind);
  const double min_threshold = 2.5 * prepared.noise_sigma(0);
  // A background that is nearly black carries no information about the light.
  const double per_level = by.level >= 12 ? 1 / by.level : 0;
  const int width = picture.width();
  Image<uint8_t> result(width, picture.height());
  parallel_rows(picture.height(), 32, [&](int first, int end) {
    // Plain loops over rows of floats, so that the compiler makes vectors of them.
    std::vector<float> back(static_cast<size_t>(width)), limit(static_cast<size_t>(width));
    for (int y = first; y < end; ++y) {
      const double v = share_of(y, picture.height());
      const auto at_left = static_cast<float>(level.terms[0] + level.terms[2] * v + level.terms[5] * v * v),
                 slope = static_cast<float>(level.terms[1] + level.terms[4] * v),
                 bend = static_cast<float>(level.terms[3]);
      const auto u0 = static_cast<float>(share_of(0, width)),
                 step = width > 1 ? 2.0f / static_cast<float>(width - 1) : 0.0f;
      const auto threshold = static_cast<float>(by.threshold), least = static_cast<float>(min_threshold),
                 per_lit = static_cast<float>(by.behind ? 1 : per_level);
      const bool follows = per_level > 0;
      for (int x = 0; x < width; ++x) {
        const float u = u0 + step * static_cast<float>(x), lit = at_left + u * (slope + u * bend);
        // The part is lit as its background is.
        const float light = follows ? std::max(lit * per_lit, 0.02f) : 1.0f;
        back[static_cast<size_t>(x)] = lit;
        limit[static_cast<size_t>(x)] = std::max(threshold * light, least);
      }
      if (by.behind)
        for (int x = 0; x < width; ++x) back[static_cast<size_t>(x)] *= (*by.behind)(x, y);
      if (by.spread)
        for (int x = 0; x < width; ++x)
          limit[static_cast<size_t>(x)] = std::max(limit[static_cast<size_t>(x)], 0.5f * (*by.spread)(x, y));
      const uint8_t* row = picture.row(y);
      uint8_t* out = result.row(y);
      const float sign = by.tone == PartTone::dark ? -1.0f : 1.0f,
                  folded = by.tone == PartTone::either ? 1.0f : 0.0f;
      constexpr float ground = background_value, rise = 128 - background_value;
      for (int x = 0; x < width; ++x) {
        const float difference = sign * (row[x] - back[static_cast<size_t>(x)]), size = std::abs(difference);
        // What lies a little below the background is kept too: cut off, it would move the outline's blurred
        // edge.
        const float value =
            ground + rise * (difference + folded * (size - difference)) / limit[static_cast<size_t>(x)];
        out[x] = static_cast<uint8_t>(std::min(std::max(value + 0.5f, 0.0f), 255.0f));
      }
    }
  });
  return result;
}

Image<uint8_t> differences_of(const ImageView<const uint8_t>& picture, const BackdropLevel& level,
                              const Image<uint8_t>* behind, PartTone tone) {
  Image<uint8_t> result(picture.width(), picture.height());
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) {
      const double lit = level.at(share_of(x, picture.width()), share_of(y, picture.height()));
      double d = picture(x, y) - (behind ? lit * (*behind)(x, y) : lit);
      if (tone == PartTone::dark) d = -d;
      if (tone == PartTone::either || tone == PartTone::learn) d = std::abs(d);
      result(x, y) = static_cast<uint8_t>(std::clamp(std::round(d), 0.0, 255.0));
    }
  return result;
}

Parted part_values(const std::array<int64_t, 256>& histogram) {
  double all = 0, sum = 0;
  for (size_t i = 0; i < 256; ++i)
    all += static_cast<double>(histogram[i]),
        sum += static_cast<double>(histogram[i]) * static_cast<double>(i);
  Parted best;
  double most = -1, below = 0, below_sum = 0;
  for (size_t i = 0; i + 1 < 256; ++i) {
    below += static_cast<double>(histogram[i]),
        below_sum += static_cast<double>(histogram[i]) * static_cast<double>(i);
    if (below == 0 || below == all) continue;
    const double low = below_sum / below, high = (sum - below_sum) / (all - below);
    const double between = below * (all - below) * (high - low) * (high - low);
    // Between two groups every limit is as good; the middle of them is meant.
    if (between > most) most = between, best = {0.5 * (low + high), low, high};
  }
  return best;
}

}  // namespace heron
