#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "heron/image/color_space.hpp"
#include "heron/image/components.hpp"
#include "heron/image/sample.hpp"
#include "measured.hpp"

namespace heron {
namespace {

constexpr int64_t fewest_pixels = 4;

/// The pixels of a gauge's shape, or nothing when it is not measured; `result` then says why.
template <class Gauge>
std::optional<AreaPixels> area_of(const Gauge& gauge, const GaugeScene& scene, Measured& result) {
  std::optional<AreaPixels> area =
      pixels_of({gauge.box, gauge.disc, gauge.ring, gauge.polygon}, scene.placement, scene.prepared.width(),
                scene.prepared.height());
  result.contours.push_back({.points = area->border, .closed = true, .seen = false});
  Point2 sum;
  for (const Point2 p : area->border) sum += p;
  result.at = sum / static_cast<double>(std::max<size_t>(area->border.size(), 1));
  if (area->inside < 1 && scene.outside == OutsidePicture::refuse)
    result.fails(Verdict::not_measured, area->inside > 0 ? partly_outside_words : outside_words);
  else if (area->count < fewest_pixels)
    result.fails(Verdict::not_measured,
                 area->inside == 0 ? outside_words : "its shape holds less than 4 pixels here");
  else
    return area;
  return std::nullopt;
}

template <class Use>
void for_each_pixel(const AreaPixels& area, Use use) {
  for (int y = 0; y < area.mask.height(); ++y)
    for (int x = 0; x < area.mask.width(); ++x)
      if (area.mask(x, y)) use(x, y);
}

using Histogram = std::array<int64_t, 256>;

/// How often each grey level occurs in the shape.
Histogram histogram_of(const Image<uint8_t>& picture, const AreaPixels& area) {
  // In turn to four: equal pixels side by side would wait for one another.
  std::array<std::array<uint32_t, 256>, 4> counts{};
  for (int y = 0; y < area.mask.height(); ++y) {
    const uint8_t *in = area.mask.row(y), *grey = picture.row(area.top + y) + area.left;
    for (int x = 0; x < area.mask.width(); ++x) counts[static_cast<size_t>(x) % 4][grey[x]] += in[x] != 0;
  }
  Histogram histogram{};
  for (const auto& part : counts)
    for (size_t v = 0; v < 256; ++v) histogram[v] += part[v];
  return histogram;
}

/// The shape's pixels from level `least` to `most`.
Image<uint8_t> pixels_within(const Image<uint8_t>& picture, const AreaPixels& area, int least, int most) {
  Image<uint8_t> within(area.mask.width(), area.mask.height());
  for (int y = 0; y < within.height(); ++y) {
    const uint8_t *in = area.mask.row(y), *grey = picture.row(area.top + y) + area.left;
    uint8_t* to = within.row(y);
    for (int x = 0; x < within.width(); ++x)
      to[x] = ((in[x] != 0) & (grey[x] >= least) & (grey[x] <= most)) ? 255 : 0;
  }
  return within;
}

/// Pixels along the line that parts what is within from the rest of the shape: its rows or columns, whichever
/// are more.
double parting_pixels(const Image<uint8_t>& within, const AreaPixels& area) {
  int64_t along_x = 0, along_y = 0;
  for (int y = 0; y < within.height(); ++y) {
    const uint8_t *here = within.row(y), *in = area.mask.row(y);
    for (int x = 0; x + 1 < within.width(); ++x)
      along_x += (in[x] & in[x + 1]) != 0 && here[x] != here[x + 1];
    if (y + 1 == within.height()) break;
    const uint8_t *below = within.row(y + 1), *in_below = area.mask.row(y + 1);
    for (int x = 0; x < within.width(); ++x) along_y += (in[x] & in_below[x]) != 0 && here[x] != below[x];
  }
  return static_cast<double>(std::max(along_x, along_y));
}

double mean_of(const Image<uint8_t>& picture, const AreaPixels& area) {
  const Histogram histogram = histogram_of(picture, area);
  double sum = 0;
  for (size_t v = 0; v < 256; ++v) sum += static_cast<double>(histogram[v]) * static_cast<double>(v);
  return sum / static_cast<double>(std::max<int64_t>(area.count, 1));
}

/// The share of a normal distribution about `value` that lies in the range.
double share_inside(double value, Range<double> range, double sigma) {
  const auto below = [&](double limit) {
    return 0.5 * std::erfc((value - limit) / (sigma * std::numbers::sqrt2));
  };
  return below(range.max) - below(range.min);
}

/// The threshold that splits grey levels into two groups with the largest variance between them (Otsu, A
/// threshold selection method from gray-level histograms, IEEE Trans. SMC 9, 1979), and how far the groups'
/// means lie apart.
struct Valley {
  double threshold = 0, apart = 0;
};
Valley valley_of(const Histogram& histogram) {
  double all = 0, sum = 0;
  for (size_t v = 0; v < 256; ++v) {
    const auto count = static_cast<double>(histogram[v]);
    all += count, sum += count * static_cast<double>(v);
  }
  Valley best;
  double most = -1, below = 0, sum_below = 0, flat_to = 0;
  for (size_t v = 0; v < 255; ++v) {
    const auto count = static_cast<double>(histogram[v]);
    below += count, sum_below += count * static_cast<double>(v);
    if (below == 0 || below == all) continue;
    const double apart = (sum - sum_below) / (all - below) - sum_below / below,
                 between = below * (all - below) * apart * apart;
    const double level = static_cast<double>(v) + 0.5;
    if (between > most) {
      most = between, best = {level, apart}, flat_to = level;
    } else if (between == most) {  // an empty valley is flat: its middle
      flat_to = level;
      best.threshold = 0.5 * (best.threshold + flat_to);
    }
  }
  return best;
}

/// Grey level below which a share of the pixels lies.
double quantile(const Histogram& histogram, int64_t count, double share) {
  int64_t below = 0;
  size_t level = 0;
  while (level < 255 && static_cast<double>(below += histogram[level]) < share * static_cast<double>(count))
    ++level;
  return static_cast<double>(level);
}

/// A few small blobs are too little for the valley: what lies six standard deviations off the background,
/// halfway to it.
std::optional<double> threshold_of_few(const Histogram& histogram, int64_t count, bool bright, double noise) {
  constexpr double off = 6, least_contrast = 8, quartile_to_sigma = 0.7413;
  const double middle = quantile(histogram, count, 0.5),
               sigma = std::max(
                   {quartile_to_sigma * (quantile(histogram, count, 0.75) - quantile(histogram, count, 0.25)),
                    noise, 0.5});
  double sum = 0, beyond = 0;
  for (size_t v = 0; v < 256; ++v) {
    const double from = (static_cast<double>(v) - middle) * (bright ? 1 : -1);
    if (from > off * sigma)
      sum += from * static_cast<double>(histogram[v]), beyond += static_cast<double>(histogram[v]);
  }
  if (beyond == 0 || sum / beyond < least_contrast) return std::nullopt;
  return middle + (bright ? 0.5 : -0.5) * sum / beyond;
}

double blob_threshold(const BlobsGauge& gauge, const Histogram& histogram, int64_t count, double noise) {
  if (gauge.threshold == BlobThreshold::fixed) return gauge.level;
  if (gauge.threshold == BlobThreshold::relative) return gauge.level * quantile(histogram, count, 0.5);
  // Noise alone splits into two groups 1.6 sigma apart: then there is nothing but background.
  constexpr double least_apart = 8, least_sigmas = 4;
  const Valley valley = valley_of(histogram);
  if (valley.apart > std::max(least_apart, least_sigmas * noise)) return valley.threshold;
  if (const auto threshold = threshold_of_few(histogram, count, gauge.tone == BlobTone::bright, noise))
    return *threshold;
  return gauge.tone == BlobTone::bright ? 256 : -1;
}

}  // namespace

Measured measured(const FillGauge& gauge, const GaugeScene& scene, const Target* color) {
  Measured result;
  const auto area = area_of(gauge, scene, result);
  if (!area) return result;
  const auto count = static_cast<double>(area->count);
  if (color) {
    const Image<Rgb>& picture = scene.prepared.color();
    const auto* kind = color->as<ColorTarget>();
    if (picture.empty() && kind->needs_color())
      return result.fails(Verdict::not_measured, "the picture has no color");
    int64_t inside = 0;
    const ColorRange range = kind->range();
    for_each_pixel(*area, [&](int x, int y) {
      const int px = area->left + x, py = area->top + y;
      const uint8_t grey = picture.empty() ? scene.prepared.level(0)(px, py) : uint8_t{0};
      const Rgb p = picture.empty() ? Rgb{grey, grey, grey} : picture(px, py);
      inside += outside_by(range, in_space(p, range.space)) <= 0;
    });
    const double share = static_cast<double>(inside) / count;
    // Pixels of the border between inside and outside fall to either side.
    return result.reads("fill", {100 * share, 100 * std::sqrt(share * (1 - share) / count)}, "%");
  }
  Range<double> levels{gauge.levels[0], gauge.levels[1]};
  double gain = 1;
  if (!gauge.light_box.empty()) {
    const std::vector<double> none;
    const AreaPixels reference = pixels_of({gauge.light_box, none, none, none}, scene.placement,
                                           scene.prepared.width(), scene.prepared.height());
    result.contours.push_back({.points = reference.border, .closed = true, .seen = false});
    if (reference.inside < 1 || reference.count < fewest_pixels)
      return result.fails(Verdict::not_measured, "its reference box reaches out of the picture");
    gain = mean_of(scene.prepared.level(0), reference) / gauge.light_level;
    if (!(gain > 0.02))
      return result.fails(Verdict::not_measured, "its reference box is black: there is no light");
    levels.min *= gain, levels.max = gauge.levels[1] >= 255 ? 255 : levels.max * gain;
  }
  const double noise = std::max(scene.prepared.noise_sigma(0), 0.3);
  double inside = 0, variance = 0;
  const Range<double> open{levels.min <= 0 ? -1e9 : levels.min - 0.5,
                           levels.max >= 255 ? 1e9 : levels.max + 0.5};
  const Histogram histogram = histogram_of(scene.prepared.level(0), *area);
  for (size_t i = 0; i < 256; ++i) {
    if (histogram[i] == 0) continue;
    const auto v = static_cast<double>(i), pixels = static_cast<double>(histogram[i]);
    if (v >= levels.min && v <= levels.max) inside += pixels;
    const double share = share_inside(v, open, noise);
    variance += pixels * share * (1 - share);
  }
  // A line between inside and outside falls anywhere between pixels' centres.
  const Image<uint8_t> within =
      pixels_within(scene.prepared.level(0), *area, static_cast<int>(std::ceil(std::max(levels.min, 0.0))),
                    static_cast<int>(std::floor(std::min(levels.max, 255.0))));
  variance += parting_pixels(within, *area) / 12;
  result.reads("fill", {100 * inside / count, 100 * std::sqrt(variance) / count}, "%");
  result.values = {{"pixels", count, {}, ""}};
  if (!gauge.light_box.empty()) result.values.push_back({"light", gain, {}, ""});
  return result;
}

Measured measured(const BlobsGauge& gauge, const GaugeScene& scene) {
  Measured result;
  const auto area = area_of(gauge, scene, result);
  if (!area) return result;
  const Image<uint8_t>& picture = scene.prepared.level(0);
  const double threshold =
      blob_threshold(gauge, histogram_of(picture, *area), area->count, scene.prepared.noise_sigma(0));
  const bool bright = gauge.tone == BlobTone::bright;
  const double level = std::clamp(threshold, -1.0, 256.0);
  const Image<uint8_t> mask =
      pixels_within(picture, *area, bright ? static_cast<int>(std::floor(level)) + 1 : 0,
                    bright ? 255 : static_cast<int>(std::ceil(level)) - 1);
  // Limits of area are meant on the reference picture; a part that is nearer shows larger blobs.
  const double enlarged = scene.placement.scale_at({area->border[0].x, area->border[0].y}),
               square = enlarged * enlarged;
  const double unit = scene.plane.scale(result.at), unit_square = unit * unit;
  double count = 0, sum = 0, largest = 0, half = 0, twice = 0;
  for (const Component& c : components(mask)) {
    const double size = c.area / square;
    const bool counted = size >= gauge.min_area && (gauge.max_area == 0 || size <= gauge.max_area);
    half += size >= 0.5 * gauge.min_area, twice += size >= 2 * gauge.min_area;
    constexpr size_t most_items = 1000;
    if (size < 0.25 * gauge.min_area || (!counted && result.items.size() >= most_items)) continue;
    result.items.push_back({{area->left + c.x, area->top + c.y}, c.area * unit_square, counted});
    if (counted) ++count, sum += c.area * unit_square, largest = std::max(largest, c.area * unit_square);
  }
  const char* area_unit = scene.plane.area_unit();
  if (gauge.reads == BlobReading::count)
    result.counts("count", count);
  else if (gauge.reads == BlobReading::area)
    result.counts("area", sum), result.unit = area_unit;
  else
    result.counts("largest", largest), result.unit = area_unit;
  result.values = {{"count", count, {}, ""},
                   {"area", sum, {}, area_unit},
                   {"largest", largest, {}, area_unit},
                   {"threshold", threshold, {}, ""},
                   {"count_at_half_min_area", half, {}, ""},
                   {"count_at_twice_min_area", twice, {}, ""}};
  return result;
}

Measured measured(const CropGauge& gauge, const GaugeScene& scene) {
  Measured result;
  const std::vector<double> none;
  const AreaPixels area = pixels_of({gauge.box, none, none, none}, scene.placement, scene.prepared.width(),
                                    scene.prepared.height());
  result.contours.push_back({.points = area.border, .closed = true, .seen = false});
  result.at = scene.placement.at({gauge.box[0], gauge.box[1]});
  if (area.inside < 1 && (scene.outside == OutsidePicture::refuse || area.inside == 0))
    return result.fails(Verdict::not_measured, area.inside > 0 ? partly_outside_words : outside_words);
  const int height = gauge.height,
            width = std::clamp(static_cast<int>(std::lround(height * gauge.box[2] / gauge.box[3])), 1, 4096);
  const Point2 along = unit(degrees(gauge.box[4])), across{-along.y, along.x},
               middle{gauge.box[0], gauge.box[1]};
  const Image<uint8_t>& picture = scene.prepared.level(0);
  auto crop = std::make_shared<Image<uint8_t>>(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) {
      const Point2 drawn = middle + along * (((x + 0.5) / width - 0.5) * gauge.box[2]) +
                           across * (((y + 0.5) / height - 0.5) * gauge.box[3]);
      const Point2 p = scene.placement.at(drawn);
      const double v = bilinear(picture.view(), std::clamp(p.x, 0.0, picture.width() - 1.0),
                                std::clamp(p.y, 0.0, picture.height() - 1.0));
      (*crop)(x, y) = static_cast<uint8_t>(std::lround(v));
    }
  result.crop = std::move(crop);
  return result.counts("text", 0);
}

Measured measured(const CountGauge& gauge, const GaugeScene& scene, const std::vector<Point2>& detections) {
  Measured result;
  const auto area = area_of(gauge, scene, result);
  if (!area) return result;
  double count = 0;
  for (const Point2 p : detections) {
    const auto x = static_cast<int>(std::lround(p.x)) - area->left,
               y = static_cast<int>(std::lround(p.y)) - area->top;
    if (!area->mask.view().holds(x, y) || !area->mask(x, y)) continue;
    ++count, result.items.push_back({p, count});
  }
  return result.counts("count", count);
}

}  // namespace heron
