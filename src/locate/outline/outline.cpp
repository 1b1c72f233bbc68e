#include "heron/locate/outline.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "color_distance.hpp"
#include "heron/image/components.hpp"
#include "heron/image/noise.hpp"
#include "locate/common/find_options.hpp"
#include "silhouette.hpp"

namespace heron {
namespace {

constexpr double min_like_itself = 96;  // per cent
constexpr uint8_t on_outline = 128;     // half of a pixel is the part's

Image<uint8_t> above(const Image<uint8_t>& silhouette, const Image<uint8_t>& counts) {
  Image<uint8_t> mask(silhouette.width(), silhouette.height());
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x)
      mask(x, y) = counts(x, y) && silhouette(x, y) >= on_outline ? 255 : 0;
  return mask;
}

/// What lies within `far` pixels of the mask's borders.
Image<uint8_t> band_along(const Image<uint8_t>& mask, int far) {
  Image<uint8_t> band(mask.width(), mask.height());
  for (const auto& line : border_lines(mask))
    for (size_t i = 0; i < line.size(); ++i) {
      const Point2 a = line[i], b = line[(i + 1) % line.size()];
      const int x0 = std::max(0, static_cast<int>(std::min(a.x, b.x)) - far),
                x1 = std::min(mask.width() - 1, static_cast<int>(std::max(a.x, b.x)) + far + 1),
                y0 = std::max(0, static_cast<int>(std::min(a.y, b.y)) - far),
                y1 = std::min(mask.height() - 1, static_cast<int>(std::max(a.y, b.y)) + far + 1);
      for (int y = y0; y <= y1; ++y) std::fill(band.row(y) + x0, band.row(y) + x1 + 1, uint8_t{255});
    }
  return band;
}

Image<uint8_t> flipped(const Image<uint8_t>& picture) {
  Image<uint8_t> result(picture.width(), picture.height());
  for (int y = 0; y < picture.height(); ++y)
    std::copy_n(picture.row(picture.height() - 1 - y), picture.width(), result.row(y));
  return result;
}

void require_valid(const OutlineSettings& s) {
  if (!(s.threshold >= 0 && s.threshold <= 200))
    fail_argument(
        fmt::format("threshold {:g} must be from 1 to 200 grey levels, or 0 to choose it", s.threshold));
  for (const auto& [value, name] : {std::pair{s.min_area, "min area"},
                                    {s.max_area, "max area"},
                                    {s.max_deviation, "max deviation"},
                                    {s.min_defect, "min defect"},
                                    {s.max_defect, "max defect"},
                                    {s.level, "level"}})
    if (!(value >= 0 && value < 1e9)) fail_argument(fmt::format("{} {:g} must be 0 or above", name, value));
  if (!s.backdrop_color.empty() || s.backdrop == Backdrop::color) {
    const auto& c = s.backdrop_color;
    const bool fits =
        c.empty() ||
        (c.size() == 3 && std::all_of(c.begin(), c.end(), [](double v) { return v >= 0 && v <= 255; }));
    if (!fits || (!s.towards.empty() && s.towards.size() != 3))
      fail_argument("a backdrop color must be red, green, blue, each from 0 to 255");
    if (c.size() == 3 && c[0] + c[1] + c[2] < 30)
      fail_argument(
          fmt::format("a backdrop color of {:g}, {:g}, {:g} is too dark to have a color", c[0], c[1], c[2]));
  }
  if (s.backdrop == Backdrop::unknown && (s.min_area > 0 || s.max_area > 0 || s.max_defect > 0))
    fail_argument(
        "before an unknown backdrop only edges are seen, so area and defects are not measured; leave out "
        "min_area, "
        "max_area and max_defect, or give a backdrop (max_deviation is measured)");
  if (s.max_area > 0 && s.max_area < s.min_area)
    fail_argument(
        fmt::format("areas {:g}..{:g} per cent must have the minimum first", s.min_area, s.max_area));
}

/// The mean of empty pictures, and how much they differ, in eighths of a grey level.
void add_backgrounds(TaughtPicture& taught, const std::vector<ImageView<const uint8_t>>& pictures) {
  const int w = pictures[0].width(), h = pictures[0].height();
  Image<uint8_t> mean(w, h), spread(w, h);
  const auto count = static_cast<double>(pictures.size());
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      double sum = 0, squares = 0;
      for (const auto& p : pictures) sum += p(x, y), squares += p(x, y) * p(x, y);
      const double middle = sum / count, variance = std::max(0.0, squares / count - middle * middle);
      mean(x, y) = static_cast<uint8_t>(std::lround(middle));
      spread(x, y) = static_cast<uint8_t>(std::min(255.0, 8 * std::sqrt(variance)));
    }
  taught.extras.push_back({"background", std::move(mean)});
  if (pictures.size() > 1) taught.extras.push_back({"spread", std::move(spread)});
}

std::array<int64_t, 256> histogram_of(const Image<uint8_t>& picture, const Image<uint8_t>& inside) {
  std::array<int64_t, 256> histogram{};
  for (int y = 0; y < inside.height(); ++y)
    for (int x = 0; x < inside.width(); ++x)
      if (inside(x, y)) ++histogram[picture(x, y)];
  return histogram;
}

/// Tone and threshold by what the region shows.
void learn_threshold(OutlineSettings& s, const TeachingPicture& from, const Image<uint8_t>* behind) {
  const BackdropLevel level = level_of(from.grey, behind);
  const Image<uint8_t> inside = from.region.mask(from.grey.width(), from.grey.height());
  double sum = 0, count = 0;
  for (int y = 0; y < inside.height(); ++y)
    for (int x = 0; x < inside.width(); ++x) {
      if (!inside(x, y)) continue;
      const double lit = level.at(share_of(x, inside.width()), share_of(y, inside.height()));
      sum += behind ? lit * (*behind)(x, y) : lit, ++count;
    }
  s.level = sum / std::max(count, 1.0);
  const auto parted_as = [&](PartTone tone) {
    return part_values(histogram_of(differences_of(from.grey, level, behind, tone), inside));
  };
  if (s.tone == PartTone::learn) {
    const Parted bright = parted_as(PartTone::bright), dark = parted_as(PartTone::dark);
    const double b = bright.above - bright.below, d = dark.above - dark.below;
    // A part with both brighter and darker places needs both.
    s.tone = b > 3 * d ? PartTone::bright : d > 3 * b ? PartTone::dark : PartTone::either;
  }
  const Parted parted = parted_as(s.tone);
  const double noise = noise_sigma(from.grey);
  if (s.threshold == 0) s.threshold = parted.limit;
  if (parted.above - parted.below < std::max(6.0, 4 * noise))
    fail_argument(
        fmt::format("teach: nothing in the region stands out from the background: {:.1f} grey levels, the "
                    "noise being {:.1f}; give an empty picture with --background, or better light",
                    parted.above - parted.below, noise));
}

/// Leaves the largest silhouette of the region; others are masked.
void keep_largest(TaughtPicture& taught) {
  const Image<uint8_t> mask = above(taught.pixels, taught.mask);
  const std::vector<Component> all = components(mask);
  if (all.empty()) fail_argument("teach: no silhouette in the region at this threshold");
  const Component& part =
      *std::max_element(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.area < b.area; });
  // A region may begin within a pixel, and its first column then does not count.
  int left = mask.width(), right = 0, top = mask.height(), bottom = 0;
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x)
      if (taught.mask(x, y))
        left = std::min(left, x), right = std::max(right, x), top = std::min(top, y),
        bottom = std::max(bottom, y);
  if (part.left <= left || part.top <= top || part.right >= right || part.bottom >= bottom)
    fail_argument(
        "teach: the silhouette runs into the region's border; draw the region some pixels wider than the "
        "part, on background alone");
  const Image<uint8_t> own = component_alone(mask, part);
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) {
      const int u = x - part.left + 1, v = y - part.top + 1;
      if (mask(x, y) && !(own.view().holds(u, v) && own(u, v))) {  // another one: it, and its blurred border
        for (int j = std::max(0, y - 2); j <= std::min(mask.height() - 1, y + 2); ++j)
          for (int i = std::max(0, x - 2); i <= std::min(mask.width() - 1, x + 2); ++i) taught.mask(i, j) = 0;
      }
    }
}

/// What the taught silhouette shows of another shape, per cent.
double likeness_of(const PatternTarget& other, const Image<uint8_t>& silhouette) {
  constexpr int margin = 24;  // pixels; a turned silhouette reaches beyond its own picture
  Image<uint8_t> wide(silhouette.width() + 2 * margin, silhouette.height() + 2 * margin);
  for (int y = 0; y < silhouette.height(); ++y)
    std::copy_n(silhouette.row(y), silhouette.width(), wide.row(y + margin) + margin);
  FindOptions any;
  any.min_score = 30, any.thoroughness = Thoroughness::exhaustive;
  const FindResult found = find(other, PreparedPicture(std::move(wide)), any, Explain::never);
  return found.detections.empty() ? 0 : found.detections[0].score;
}

}  // namespace

const KindInfo& OutlineTarget::info() {
  static const KindInfo kind{.id = "outline",
                             .what = "a silhouette on a known background",
                             .options = {"angle", "scale", "min score", "max count", "min visible",
                                         "max outside", "thoroughness", "region"},
                             .looks_at_color = true,
                             .backgrounds = true};
  return kind;
}

const std::vector<SettingRow<OutlineSettings>>& OutlineTarget::rows() {
  static const std::vector<SettingRow<OutlineSettings>> rows{
      {"backdrop",
       SettingWord<OutlineSettings>{[](const OutlineSettings& s) { return static_cast<int>(s.backdrop); },
                                    [](OutlineSettings& s, int i) { s.backdrop = static_cast<Backdrop>(i); },
                                    {"even", "picture", "color", "unknown"}},
       "what lies behind the parts: even brightness, picture (--background), one color, or unknown"},
      {"backdrop_color", &OutlineSettings::backdrop_color,
       "RED,GREEN,BLUE of a backdrop of one color; default: learned along the region's border"},
      {"tone",
       SettingWord<OutlineSettings>{[](const OutlineSettings& s) { return static_cast<int>(s.tone); },
                                    [](OutlineSettings& s, int i) { s.tone = static_cast<PartTone>(i); },
                                    {"learn", "either", "bright", "dark"}},
       "how parts differ from the backdrop: bright, dark, either, or learn"},
      {"threshold", &OutlineSettings::threshold,
       "difference from the backdrop that counts as a part, grey levels; 0: chosen"},
      {"level", &OutlineSettings::level,
       "brightness of the backdrop at teaching, grey levels; the threshold follows it", true},
      {"towards", &OutlineSettings::towards,
       "direction from the backdrop's color to the parts' color; empty when parts have several colors", true},
      {"mirrored", &OutlineSettings::mirrored, "yes: finds mirrored parts too; else they are misses"},
      {"min_area", &OutlineSettings::min_area, "smallest area, per cent of the taught area; 0: any"},
      {"max_area", &OutlineSettings::max_area, "largest area, per cent of the taught area; 0: any"},
      {"max_deviation", &OutlineSettings::max_deviation,
       "largest deviation from the taught outline, pixels; 0: any"},
      {"min_defect", &OutlineSettings::min_defect,
       "smallest missing or extra piece that is reported, square pixels"},
      {"max_defect", &OutlineSettings::max_defect,
       "largest total area of missing and extra pieces, square pixels; 0: any"}};
  return rows;
}

OutlineTarget OutlineTarget::taught_from(const TeachingPicture& from, OutlineSettings s) {
  require_valid(s);
  if (!from.backgrounds.empty()) s.backdrop = Backdrop::picture;
  if (s.backdrop == Backdrop::picture && from.backgrounds.empty())
    fail_argument("teach: the background is to be a picture, and none is given");
  if (s.backdrop == Backdrop::unknown) {
    if (!from.backgrounds.empty()) fail_argument("teach: a background is given, and is to be unknown");
    return {cut_out({.grey = from.grey, .region = from.region, .valid = from.valid}, s.origin), std::move(s)};
  }
  if (s.backdrop == Backdrop::color) {
    if (from.color.empty())
      fail_argument("teach: the picture is grey; a backdrop of one color needs a color picture");
    if (s.backdrop_color.empty()) {
      const auto color = color_along_border(from.color, from.region);
      s.backdrop_color = {color.begin(), color.end()};
    }
    require_valid(s);
    if (s.tone != PartTone::learn && s.tone != PartTone::bright)
      fail_argument("teach: against a color parts differ by color; leave out --tone");
    s.tone = PartTone::bright;
    const auto backdrop = three_of(s.backdrop_color);
    if (s.towards.empty()) {
      const Image<uint8_t> any_way = distance_from_color(from.color, backdrop, {});
      const Image<uint8_t> inside = from.region.mask(from.grey.width(), from.grey.height());
      const Parted parted = part_values(histogram_of(any_way, inside));
      Image<uint8_t> part(inside.width(), inside.height());
      for (int y = 0; y < part.height(); ++y)
        for (int x = 0; x < part.width(); ++x)
          part(x, y) = inside(x, y) && any_way(x, y) > parted.limit ? 255 : 0;
      const auto towards = direction_from_color(from.color, backdrop, part);
      if (towards != std::array<double, 3>{}) s.towards = {towards.begin(), towards.end()};
    }
    const Image<uint8_t> away = distance_from_color(from.color, backdrop, three_of(s.towards));
    return taught_on({.grey = away, .region = from.region, .valid = from.valid}, std::move(s));
  }
  return taught_on(from, std::move(s));
}

OutlineTarget OutlineTarget::taught_on(const TeachingPicture& from, OutlineSettings s) {
  TaughtPicture extras;
  if (!from.backgrounds.empty()) add_backgrounds(extras, from.backgrounds);
  const Image<uint8_t>* behind = extras.extras.empty() ? nullptr : &extras.extras[0].pixels;
  const Image<uint8_t>* spread = extras.extras.size() > 1 ? &extras.extras[1].pixels : nullptr;
  learn_threshold(s, from, behind);
  const PreparedPicture prepared{Image<uint8_t>(from.grey)};
  const Image<uint8_t> silhouette = silhouette_of(prepared, {behind, spread, s.tone, s.threshold, s.level});
  TaughtPicture taught = cut_out({.grey = silhouette, .region = from.region, .valid = from.valid}, s.origin);
  keep_largest(taught);
  taught.extras = std::move(extras.extras);
  return {std::move(taught), std::move(s)};
}

OutlineTarget::OutlineTarget(TaughtPicture taught, OutlineSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.options, 1);
  if (settings_.tone == PartTone::learn) settings_.tone = PartTone::either;
  if (settings_.threshold == 0) settings_.threshold = 20;
  if (settings_.backdrop == Backdrop::picture && taught_->extras.empty())
    fail_argument(
        fmt::format("'{}' needs the empty picture that it was taught with, which is gone from its file; "
                    "teach it again",
                    settings_.name));
  if (settings_.backdrop == Backdrop::color && settings_.backdrop_color.size() != 3)
    fail_argument(fmt::format("'{}' lacks the color of its backdrop; teach it again", settings_.name));
  Image<uint8_t> mask;
  if (settings_.backdrop == Backdrop::unknown) {
    // The detail that lies in the middle: what is on its side of the best threshold.
    const Parted parted = part_values(histogram_of(taught_->pixels, taught_->mask));
    Image<uint8_t> bright(taught_->pixels.width(), taught_->pixels.height());
    int64_t rim_bright = 0, rim = 0;
    for (int y = 0; y < bright.height(); ++y)
      for (int x = 0; x < bright.width(); ++x) {
        const bool in = taught_->pixels(x, y) > parted.limit;
        bright(x, y) = in && taught_->mask(x, y) ? 255 : 0;
        const bool border = x == 0 || y == 0 || x == bright.width() - 1 || y == bright.height() - 1;
        rim += border, rim_bright += border && in;
      }
    if (2 * rim_bright > rim)
      for (int y = 0; y < bright.height(); ++y)
        for (int x = 0; x < bright.width(); ++x)
          bright(x, y) = taught_->mask(x, y) && !bright(x, y) ? 255 : 0;
    mask = std::move(bright);
  } else {
    mask = above(taught_->pixels, taught_->mask);
  }
  Image<uint8_t> band = band_along(mask, 7);
  for (int y = 0; y < band.height(); ++y)
    for (int x = 0; x < band.width(); ++x) {
      area_ += mask(x, y) != 0;
      if (!taught_->mask(x, y)) band(x, y) = 0;
    }
  PatternSettings how{.name = settings_.name, .options = settings_.options};
  how.edge_threshold = settings_.backdrop == Backdrop::unknown ? 0 : 24;
  Image<uint8_t> other = flipped(taught_->pixels), other_band = flipped(band);
  const double height = taught_->pixels.height() - 1;
  shape_ =
      std::make_shared<PatternTarget>(Image<uint8_t>(taught_->pixels), std::move(band), taught_->origin, how);
  mirrored_ = std::make_shared<PatternTarget>(std::move(other), std::move(other_band),
                                              Point2{taught_->origin.x, height - taught_->origin.y}, how);
  likeness_of_mirrored_ = likeness_of(*mirrored_, taught_->pixels);
  // A shape that is its own mirror image, as far as edges tell, has no mirrored state.
  if (likeness_of_mirrored_ > min_like_itself) mirrored_.reset();
}

std::vector<Measurement> OutlineTarget::facts() const {
  return {{"area", area_},
          {"edges", static_cast<double>(shape_->edges().size())},
          {"threshold", settings_.threshold},
          {"level", settings_.level},
          {"mirror_differs", mirrored_ ? 1.0 : 0.0}};
}

std::vector<Contour> OutlineTarget::contours() const {
  std::vector<Contour> contours;
  Image<uint8_t> counts(taught_->mask);
  for (auto& line : border_lines(above(taught_->pixels, counts))) contours.push_back({std::move(line)});
  return contours;
}

}  // namespace heron
