#include "learn_color.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace heron {
namespace {

constexpr double min_saturation = 12;  // per cent of full, of a color rather than a grey
constexpr int chroma_bins = 48;

/// Where a color lies in the plane of colors without brightness, each share 0 to 1.
std::pair<double, double> chroma_of(const std::array<double, 3>& p) {
  const double sum = std::max(p[0] + p[1] + p[2], 1.0);
  return {p[0] / sum, p[1] / sum};
}

/// The pixels in the histogram's highest peak of chroma, or of brightness, and in the bins connected to it.
Colors main_color(const Colors& sample, bool of_brightness) {
  std::vector<double> count(chroma_bins * chroma_bins, 0);
  const auto bin_of = [&](const std::array<double, 3>& p) {
    const auto [u, v] = of_brightness ? std::pair{in_space(p, ColorSpace::grey)[0] / 255, 0.0} : chroma_of(p);
    const auto step = [](double share) {
      return static_cast<size_t>(std::clamp(static_cast<int>(share * chroma_bins), 0, chroma_bins - 1));
    };
    return step(v) * chroma_bins + step(u);
  };
  for (const auto& p : sample) count[bin_of(p)] += 1;
  const auto peak = static_cast<size_t>(std::max_element(count.begin(), count.end()) - count.begin());
  std::vector<bool> own(count.size(), false);
  std::vector<size_t> open{peak};
  own[peak] = true;
  while (!open.empty()) {
    const auto at = static_cast<int>(open.back());
    open.pop_back();
    for (int dy = -1; dy <= 1; ++dy)
      for (int dx = -1; dx <= 1; ++dx) {
        const int x = at % chroma_bins + dx, y = at / chroma_bins + dy;
        if (x < 0 || y < 0 || x >= chroma_bins || y >= chroma_bins) continue;
        const auto next = static_cast<size_t>(y * chroma_bins + x);
        if (own[next] || count[next] < 0.02 * count[peak]) continue;
        own[next] = true;
        open.push_back(next);
      }
  }
  Colors kept;
  for (const auto& p : sample)
    if (own[bin_of(p)]) kept.push_back(p);
  return kept;
}

double percentile(std::vector<double>& values, double share) {
  const auto at = values.begin() + static_cast<ptrdiff_t>(share * static_cast<double>(values.size() - 1));
  std::nth_element(values.begin(), at, values.end());
  return *at;
}

/// The sample under lights of its range, with the noise that a camera adds; noise is the same each time.
Colors under_lights(const Colors& sample, double noise, double least, double most) {
  Colors seen;
  uint32_t state = 12345;
  const auto uniform = [&] { return (state = state * 1664525u + 1013904223u) / 4294967296.0; };
  const auto normal = [&] {  // twelve uniform numbers: near enough, and the same everywhere
    double sum = -6;
    for (int i = 0; i < 12; ++i) sum += uniform();
    return sum;
  };
  constexpr int lights = 6;
  for (int k = 0; k < lights; ++k) {
    const double light = least + (most - least) * k / (lights - 1);
    for (const auto& p : sample) {
      std::array<double, 3> q{};
      for (size_t i = 0; i < 3; ++i) q[i] = std::clamp(light * p[i] + noise * normal(), 0.0, 255.0);
      seen.push_back(q);
    }
  }
  return seen;
}

ColorRange range_around(const Colors& seen, ColorSpace space) {
  std::array<std::vector<double>, 3> values;
  for (const auto& p : seen) {
    const auto c = in_space(p, space);
    for (size_t i = 0; i < 3; ++i) values[i].push_back(c[i]);
  }
  ColorRange range{.space = space};
  double turned = 0;
  if (has_hue(space)) {  // turned so that the sample's mean hue lies at 180
    double x = 0, y = 0;
    for (const double h : values[0]) x += std::cos(degrees(h).radians()), y += std::sin(degrees(h).radians());
    turned = 180 - radians(std::atan2(y, x)).degrees();
    for (double& h : values[0]) h = std::fmod(h + turned + 720, 360.0);
  }
  for (size_t i = 0; i < 3; ++i) {
    const double low = percentile(values[i], 0.001), high = percentile(values[i], 0.999);
    // As much again as noise makes of it; a color that is the same everywhere still needs some width.
    const double full = space == ColorSpace::rgb || space == ColorSpace::ycbcr ? 255 : 100;
    const double slack = std::max(0.12 * (high - low), i == 0 && has_hue(space) ? 3 : 0.012 * full);
    range.channels[i] = {low - slack, high + slack};
  }
  const auto keep = [&](size_t i, double least, double most) {
    range.channels[i] = {std::max(least, range.channels[i].min), std::min(most, range.channels[i].max)};
  };
  switch (space) {
    case ColorSpace::hsv:
    case ColorSpace::hsl:
      if (range.channels[0].max - range.channels[0].min >= 360) {
        range.channels[0] = {0, 360};
      } else {
        for (double* end : {&range.channels[0].min, &range.channels[0].max})
          *end = std::fmod(*end - turned + 1080, 360.0);
      }
      // More color than the sample has is still its color.
      keep(1, 0, 100), keep(2, 0, 100);
      range.channels[1].max = 100;
      break;
    case ColorSpace::lab:
      keep(0, 0, 100);
      break;
    default:
      for (size_t i = 0; i < 3; ++i) keep(i, 0, 255);
  }
  for (auto& [low, high] : range.channels)  // a person reads them
    low = std::floor(10 * low) / 10, high = std::ceil(10 * high) / 10;
  if (has_hue(space)) range.channels[0].max = std::min(360.0, range.channels[0].max);
  return range;
}

/// The end of a brightness range between the darker level `dark` and the brighter `bright`: as far from both
/// in light, so that either may change by the same factor. Where lights from `least` to `most` do not keep
/// the two apart, those of teaching do.
double between(double dark, double bright, double least, double most) {
  const bool kept = dark * most < bright * least;
  return std::sqrt(kept ? dark * most * bright * least : dark * bright);
}

ColorRange brightness_range(const Colors& own, const Colors& others, bool certain, double noise, double least,
                            double most) {
  std::vector<double> levels, below, above;
  for (const auto& p : own) levels.push_back(in_space(p, ColorSpace::grey)[0]);
  const double low = std::max(0.5, percentile(levels, 0.001) - noise),
               high = percentile(levels, 0.999) + noise;
  for (const auto& p : others) {
    const double level = in_space(p, ColorSpace::grey)[0];
    if (level < low) below.push_back(level);
    if (level > high) above.push_back(level);
  }
  // A few pixels are borders, or dirt.
  const double few = (certain ? 0.01 : 0.05) * static_cast<double>(others.size()),
               nearest = certain ? 0.99 : 0.75;
  const auto some = [&](const std::vector<double>& beyond) {
    return static_cast<double>(beyond.size()) > few;
  };
  Range<double> ends{std::max(0.0, low * least - 2 * noise), std::min(255.0, high * most + 2 * noise)};
  if (!others.empty()) {
    ends.min = some(below) ? between(percentile(below, nearest), low, least, most) : 0;
    ends.max = some(above) ? between(high, percentile(above, 1 - nearest), least, most) : 255;
  }
  return {ColorSpace::grey, {Range<double>{std::floor(10 * ends.min) / 10, std::ceil(10 * ends.max) / 10}}};
}

ColorSeparation separation_of(const ColorRange& range, const Colors& others, bool certain) {
  ColorSeparation s{.range = range};
  std::vector<double> outside;
  for (const auto& p : others) {
    outside.push_back(outside_by(range, in_space(p, range.space)));
    s.leaks += outside.back() <= 0;
  }
  if (!outside.empty()) {
    s.leaks /= static_cast<double>(outside.size());
    // Much of the rest of a picture may be meant; of what is known not to be, nothing is.
    s.apart = percentile(outside, certain ? 0.01 : 0.25);
  }
  constexpr int steps = 16;
  int in = 0;
  for (int r = 0; r < steps; ++r)
    for (int g = 0; g < steps; ++g)
      for (int b = 0; b < steps; ++b) {
        const auto level = [](int k) { return (k + 0.5) * 256.0 / steps; };
        in += outside_by(range, in_space(std::array{level(r), level(g), level(b)}, range.space)) <= 0;
      }
  s.volume = in / static_cast<double>(steps * steps * steps);
  return s;
}

}  // namespace

LearnedColor learn_color(const Colors& sample, const Colors& others, bool certain, double noise,
                         Range<double> light, const std::optional<ColorSpace>& space) {
  if (sample.size() < 16) fail_argument("teach: the sample holds fewer than 16 pixels; draw a larger one");
  LearnedColor learned;
  const bool grey = space == ColorSpace::grey;
  const Colors own = main_color(sample, grey);
  const auto count = static_cast<double>(own.size());
  learned.own_share = count / static_cast<double>(sample.size());
  double saturation = 0;
  for (const auto& p : own) {
    saturation += in_space(p, ColorSpace::hsv)[1] / count;
    learned.clipped += (std::min({p[0], p[1], p[2]}) <= 0 || std::max({p[0], p[1], p[2]}) >= 255) / count;
  }
  learned.spread = saturation;
  if (!grey && saturation < min_saturation)
    fail_argument(
        fmt::format("teach: the sample has no color: {:.0f} % saturation, {:.0f} are needed; find it "
                    "by its brightness (space grey), its pattern or its outline",
                    saturation, min_saturation));
  if (learned.own_share < 0.4)
    fail_argument(
        fmt::format("teach: the sample holds several {}, the most frequent fills {:.0f} % of it; draw "
                    "it inside one",
                    grey ? "levels of grey" : "colors", 100 * learned.own_share));
  const Colors seen = under_lights(own, noise, light.min, light.max);
  if (grey)
    learned.all = {
        separation_of(brightness_range(own, others, certain, noise, light.min, light.max), others, certain)};
  for (size_t i = 0; i < color_space_words.size() && !grey; ++i)
    if (const auto each = static_cast<ColorSpace>(i); each != ColorSpace::grey)
      learned.all.push_back(separation_of(range_around(seen, each), others, certain));
  const auto cost = [&](const ColorSeparation& s) {
    return std::log(s.leaks + 0.2 * s.volume + 1e-4) - 0.2 * std::min(s.apart, 3.0);
  };
  learned.chosen = grey ? learned.all.front()
                   : space
                       ? learned.all[static_cast<size_t>(*space)]
                       : *std::min_element(learned.all.begin(), learned.all.end(),
                                           [&](const auto& a, const auto& b) { return cost(a) < cost(b); });
  constexpr double all_of_it = 0.8;
  if (grey && !certain && learned.chosen.leaks > all_of_it)
    fail_argument(
        fmt::format("teach: {:.0f} % of the rest of the picture is as bright as the sample; find it by "
                    "its color or its outline, or draw counter-samples",
                    100 * learned.chosen.leaks));
  if (certain && learned.chosen.leaks > 0.2)
    fail_argument(fmt::format(
        "teach: sample and counter-samples contradict: {:.0f} % of what is not meant has the "
        "sample's color in the best space ({}); draw them in different colors, or narrow the "
        "light with --min-light and --max-light",
        100 * learned.chosen.leaks, color_space_words[static_cast<size_t>(learned.chosen.range.space)]));
  return learned;
}

}  // namespace heron
