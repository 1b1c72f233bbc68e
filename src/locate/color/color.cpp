#include "heron/locate/color.hpp"
#include "heron/locate/names.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "blob.hpp"
#include "heron/base/median.hpp"
#include "heron/base/work.hpp"
#include "heron/image/components.hpp"
#include "heron/image/noise.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "learn_color.hpp"
#include "locate/common/find_options.hpp"
#include "locate/common/misses.hpp"

namespace heron {
namespace {

constexpr size_t max_sampled = 4000;  // pixels of a sample; more tell nothing new

/// A grey picture as one of color, for what looks at three channels.
Image<Rgb> three_channels(const ImageView<const uint8_t>& grey) {
  Image<Rgb> picture(grey.width(), grey.height());
  for (int y = 0; y < grey.height(); ++y)
    for (int x = 0; x < grey.width(); ++x) {
      const uint8_t v = grey(x, y);
      picture(x, y) = {v, v, v};
    }
  return picture;
}

Colors colors_in(const ImageView<const Rgb>& picture, const Image<uint8_t>& mask, bool inside) {
  size_t all = 0;
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) all += (mask(x, y) != 0) == inside;
  const size_t step = std::max<size_t>(1, all / max_sampled);
  Colors colors;
  size_t index = 0;
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) {
      if ((mask(x, y) != 0) != inside || index++ % step != 0) continue;
      const Rgb p = picture(x, y);
      colors.push_back({static_cast<double>(p.r), static_cast<double>(p.g), static_cast<double>(p.b)});
    }
  return colors;
}

/// The least square pixels of a region.
double min_area(const ColorTarget& target) {
  if (target.settings().min_area > 0) return target.settings().min_area;
  double sample = 0;
  const Image<uint8_t>& mask = target.taught().mask;
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) sample += mask(x, y) != 0;
  return std::max(16.0, 0.25 * sample);
}

/// The mean color of a white patch (x, y, width, height), which must lie in the picture as a whole.
std::array<double, 3> color_of_patch(const ImageView<const Rgb>& picture, const std::vector<double>& patch) {
  const double x0 = patch[0], y0 = patch[1], x1 = x0 + patch[2], y1 = y0 + patch[3];
  if (!(x0 >= -0.5 && y0 >= -0.5 && x1 <= picture.width() && y1 <= picture.height()))
    fail_argument(fmt::format("the white patch {:g},{:g},{:g},{:g} must lie in the picture of {} x {} pixels",
                              x0, y0, patch[2], patch[3], picture.width(), picture.height()));
  std::array<double, 3> sum{};
  double count = 0;
  for (int y = static_cast<int>(std::ceil(y0)); y < y1; ++y)
    for (int x = static_cast<int>(std::ceil(x0)); x < x1; ++x) {
      const Rgb p = picture(x, y);
      sum[0] += p.r, sum[1] += p.g, sum[2] += p.b, ++count;
    }
  for (double& v : sum) v /= std::max(count, 1.0);
  return sum;
}

/// A mean beyond these carries no information about the light: it is clipped, or next to nothing.
constexpr Range<double> patch_levels{10, 250};

/// The channel without information, if there is one.
std::optional<double> useless_level(const std::array<double, 3>& patch) {
  for (const double level : patch)
    if (level < patch_levels.min || level > patch_levels.max) return level;
  return std::nullopt;
}

/// How many pixels of a region lie on its picture's edge, where it may go on outside.
int pixels_on_edge(const Component& c, const Image<uint8_t>& mask) {
  const int right = mask.width() - 1, bottom = mask.height() - 1;
  if (c.left > 0 && c.top > 0 && c.right < right && c.bottom < bottom) return 0;
  const Image<uint8_t> alone = component_alone(mask, c);
  int count = 0;
  for (int y = c.top; y <= c.bottom; ++y)
    for (int x = c.left; x <= c.right; ++x)
      if (x == 0 || y == 0 || x == right || y == bottom) count += alone(x - c.left + 1, y - c.top + 1) != 0;
  return count;
}

/// Takes away what a square of 2 n + 1 pixels does not fit into.
Image<uint8_t> opened(const Image<uint8_t>& mask, int n) {
  const auto pass = [&](const Image<uint8_t>& from, bool across, bool erode) {
    Image<uint8_t> to(from.width(), from.height());
    for (int y = 0; y < from.height(); ++y)
      for (int x = 0; x < from.width(); ++x) {
        bool all = true, any = false;
        for (int k = -n; k <= n; ++k) {
          const int u = across ? x + k : x, v = across ? y : y + k;
          const bool in = from.view().holds(u, v) ? from(u, v) != 0 : erode;
          all = all && in, any = any || in;
        }
        to(x, y) = (erode ? all : any) ? 255 : 0;
      }
    return to;
  };
  return pass(pass(pass(pass(mask, true, true), false, true), true, false), false, false);
}

/// What of the color itself kept the largest region of a wider range away.
void explain_by_color(const ColorTarget& target, const ImageView<const Rgb>& picture,
                      const FindOptions& options, const std::array<double, 3>& gains, FindResult& result) {
  const ColorRange range = target.range();
  ColorRange wide = range;
  for (size_t i = 0; i < channel_count(range.space); ++i) {
    auto& [low, high] = wide.channels[i];
    if (i == 0 && has_hue(wide.space)) {
      double width = high - low;
      if (width < 0) width += 360;
      if (3 * width + 40 >= 360) {
        low = 0, high = 360;
      } else {
        low = std::fmod(low - width - 20 + 720, 360.0), high = std::fmod(high + width + 20, 360.0);
      }
    } else if (range.space == ColorSpace::grey) {
      low /= 1.5, high *= 1.5;  // less light, or more
    } else {
      const double width = std::max(high - low, 5.0);
      low -= width, high += width;
    }
  }
  const Image<uint8_t> mask = color_mask(picture, wide, gains);
  std::vector<Component> found = components(mask);
  // What fills half the picture is no part of it.
  const double max_area = 0.5 * picture.width() * picture.height();
  std::erase_if(found, [&](const Component& c) {
    return c.area < min_area(target) || c.area > max_area ||
           (!options.region.empty() && !options.region.contains({c.x, c.y}));
  });
  if (found.empty()) return;
  std::sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.area > b.area; });
  const Component& c = found.front();
  const Image<uint8_t> alone = component_alone(mask, c);
  std::array<std::vector<double>, 3> values;
  const size_t channels = channel_count(range.space);
  for (int y = c.top; y <= c.bottom; ++y)
    for (int x = c.left; x <= c.right; ++x) {
      if (!alone(x - c.left + 1, y - c.top + 1)) continue;
      const Rgb p = picture(x, y);
      const auto color =
          in_space(std::array<double, 3>{p.r * gains[0], p.g * gains[1], p.b * gains[2]}, range.space);
      for (size_t i = 0; i < channels; ++i) values[i].push_back(color[i]);
    }
  Miss miss{.x = c.x, .y = c.y, .has_angle = false};
  for (size_t i = 0; i < channels; ++i) {
    const double usual = median(values[i]);
    const auto& [low, high] = range.channels[i];
    const bool in = low <= high ? usual >= low && usual <= high : usual >= low || usual <= high;
    if (!in)
      miss.reasons.push_back({channel_words(range.space)[i], usual, fmt::format("{:g}..{:g}", low, high)});
  }
  if (!miss.reasons.empty()) result.misses.push_back(std::move(miss));
}

bool range_given(const ColorSettings& s) {
  return s.first.size() == 2 &&
         (s.space == ColorSpace::grey || (s.second.size() == 2 && s.third.size() == 2));
}

ColorRange range_of(const ColorSettings& s) {
  ColorRange range{.space = *s.space};
  const std::vector<double>* channels[] = {&s.first, &s.second, &s.third};
  for (size_t i = 0; i < channel_count(range.space); ++i)
    range.channels[i] = {channels[i]->at(0), channels[i]->at(1)};
  return range;
}

void require_valid(const ColorSettings& s) {
  if (!(s.min_light > 0 && s.min_light <= s.max_light && s.max_light < 100))
    fail_argument(fmt::format("light {}..{} must be above 0, the minimum first", s.min_light, s.max_light));
  if (!(s.min_area >= 0 && s.max_area >= 0) || (s.max_area > 0 && s.max_area < s.min_area))
    fail_argument(
        fmt::format("areas {}..{} must be 0 (any) or above, the minimum first", s.min_area, s.max_area));
  if (s.opened < 0 || s.opened > 50)
    fail_argument(fmt::format("opened {} must be from 0 to 50 pixels", s.opened));
  if (!s.white_patch.empty() &&
      (s.white_patch.size() != 7 || !(s.white_patch[2] >= 1 && s.white_patch[3] >= 1)))
    fail_argument("white_patch must hold x, y, width, height (at least 1) and red, green, blue");
  for (const auto* channel : {&s.first, &s.second, &s.third})
    if (!channel->empty() && channel->size() != 2)
      fail_argument("each channel of a color range must have two numbers, minimum and maximum");
  if (!s.space || !range_given(s)) return;
  const ColorRange range = range_of(s);
  for (size_t i = has_hue(range.space) ? 1 : 0; i < channel_count(range.space); ++i)
    require_ordered(range.channels[i], channel_words(range.space)[i]);
  const Range<double>& first = range.channels[0];
  if (range.space == ColorSpace::grey && (first.min > 255 || first.max < 0))
    fail_argument(fmt::format("brightness {}..{} must reach into 0..255", first.min, first.max));
}

void take_range(ColorSettings& s, const ColorRange& range) {
  const auto ends = [&](size_t i) {
    return std::vector<double>{range.channels[i].min, range.channels[i].max};
  };
  s.space = range.space, s.first = ends(0);
  if (channel_count(range.space) == 3) s.second = ends(1), s.third = ends(2);
}

/// What is taught from a grey picture is a brightness.
void require_grey(ColorSettings& s) {
  if (s.space.value_or(ColorSpace::grey) != ColorSpace::grey)
    fail_argument(
        fmt::format("teach: the picture is grey; the space must be grey, not {}, or the picture one of color",
                    color_space_words[static_cast<size_t>(*s.space)]));
  s.space = ColorSpace::grey;
}

}  // namespace

const KindInfo& ColorTarget::info() {
  static const KindInfo kind{
      .id = "color",
      .what = "regions of a color that nothing else has; or brighter or darker than the rest",
      .options = {"min score", "max count", "region"},
      .looks_at_color = true,
      .counter_samples = true};
  return kind;
}

const std::vector<SettingRow<ColorSettings>>& ColorTarget::rows() {
  static const std::vector<SettingRow<ColorSettings>> rows = [] {
    SettingWord<ColorSettings> space{
        [](const ColorSettings& s) { return s.space ? 1 + static_cast<int>(*s.space) : 0; },
        [](ColorSettings& s, int i) {
          s.space.reset();
          if (i > 0) s.space = static_cast<ColorSpace>(i - 1);
        },
        {"best"}};
    space.words.insert(space.words.end(), color_space_words.begin(), color_space_words.end());
    return std::vector<SettingRow<ColorSettings>>{
        {"space", space,
         "color space: best (the one that separates best), rgb, hsv, hsl, ycbcr, lab, or grey for brightness "
         "alone"},
        {"first", &ColorSettings::first,
         "range of the space's first channel, MIN,MAX; a hue may wrap (350,10)"},
        {"second", &ColorSettings::second, "range of the second channel, MIN,MAX"},
        {"third", &ColorSettings::third, "range of the third channel, MIN,MAX"},
        {"min_light", &ColorSettings::min_light,
         "darkest light for which the range holds, relative to the light at teaching"},
        {"max_light", &ColorSettings::max_light,
         "brightest light for which the range holds, relative to the light at teaching"},
        {"min_area", &ColorSettings::min_area, "smallest region, square pixels; 0: a quarter of the sample"},
        {"max_area", &ColorSettings::max_area, "largest region, square pixels; 0: any"},
        {"whole", &ColorSettings::whole, "yes: a region cut off by the picture's edge is a miss"},
        {"fill_holes", &ColorSettings::fill_holes, "yes: holes belong to the region that encloses them"},
        {"opened", &ColorSettings::opened,
         "removes specks and bridges narrower than twice this, pixels; 0: off"},
        {"white_patch", &ColorSettings::white_patch,
         "X,Y,WIDTH,HEIGHT of a white patch in the picture; corrects the color of the light"}};
  }();
  return rows;
}

ColorTarget ColorTarget::taught_from(const TeachingPicture& from, ColorSettings s) {
  TaughtPicture taught = cut_out(from, s.origin);
  const Image<Rgb> held = from.color.empty() ? three_channels(from.grey) : Image<Rgb>();
  const ImageView<const Rgb> picture = from.color.empty() ? held.view() : from.color;
  if (s.white_patch.size() == 4 && s.white_patch[2] >= 1 && s.white_patch[3] >= 1) {  // learned here
    const auto white = color_of_patch(picture, s.white_patch);
    if (const auto level = useless_level(white))
      fail_argument(
          fmt::format("teach: the white patch has a channel of {:.0f} grey levels; {:g} to {:g} tell "
                      "the light, so expose otherwise, or take a greyer patch",
                      *level, patch_levels.min, patch_levels.max));
    s.white_patch.insert(s.white_patch.end(), white.begin(), white.end());
  }
  require_valid(s);
  if (from.color.empty()) require_grey(s);
  const bool given = range_given(s);
  if (given && !s.space) fail_argument("a color range is given without its space; set space too");
  const bool certain = !from.counter_samples.empty();
  Region meant = from.region, against;
  for (const Region& r : from.counter_samples) against.add(r);
  const int w = picture.width(), h = picture.height();
  const Image<uint8_t> inside = meant.mask(w, h);
  const Colors sample = colors_in(picture, inside, true);
  const Colors others =
      certain ? colors_in(picture, against.mask(w, h), true) : colors_in(picture, inside, false);
  const LearnedColor learned =
      learn_color(sample, others, certain, noise_sigma(from.grey), {s.min_light, s.max_light}, s.space);
  if (!given) take_range(s, learned.chosen.range);
  ColorTarget target(std::move(taught), std::move(s));
  target.separations_ = learned.all;
  if (target.needs_color()) target.learned_ = {{"saturation", learned.spread}};
  for (const auto& [name, value] : {std::pair{"own_share", learned.own_share},
                                    {"clipped", learned.clipped},
                                    {"apart", learned.chosen.apart},
                                    {"leaks", learned.chosen.leaks}})
    target.learned_.push_back({name, value});
  for (const ColorSeparation& each : learned.all)
    if (learned.all.size() > 1)
      target.learned_.push_back(
          {fmt::format("apart.{}", color_space_words[static_cast<size_t>(each.range.space)]), each.apart});
  return target;
}

ColorTarget::ColorTarget(TaughtPicture taught, ColorSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.options, 1);
  if (taught_->color.empty() && settings_.space && needs_color())
    fail_argument(fmt::format("the range is one of {}, and the picture has lost its color; teach it again",
                              color_space_words[static_cast<size_t>(*settings_.space)]));
  if (taught_->color.empty()) settings_.space = ColorSpace::grey;
  if (range_given(settings_)) return;
  // Only the picture is left of it: learned anew from what counts there.
  const Image<Rgb> held = taught_->color.empty() ? three_channels(taught_->pixels) : Image<Rgb>();
  const Colors sample = colors_in(taught_->color.empty() ? held : taught_->color, taught_->mask, true);
  take_range(settings_, learn_color(sample, {}, false, noise_sigma(taught_->pixels),
                                    {settings_.min_light, settings_.max_light}, settings_.space)
                            .chosen.range);
}

ColorRange ColorTarget::range() const { return range_of(settings_); }

std::vector<Measurement> ColorTarget::facts() const {
  std::vector<Measurement> facts;
  const ColorRange r = range();
  for (size_t i = 0; i < channel_count(r.space); ++i) {
    const std::string name = channel_words(r.space)[i];
    facts.push_back({name + ".least", r.channels[i].min});
    facts.push_back({name + ".most", r.channels[i].max});
  }
  facts.push_back({"min_area", min_area(*this)});
  facts.insert(facts.end(), learned_.begin(), learned_.end());
  return facts;
}

std::vector<Contour> ColorTarget::contours() const {
  std::vector<Contour> contours;
  const Image<Rgb> held = taught_->color.empty() ? three_channels(taught_->pixels) : Image<Rgb>();
  for (auto& line : border_lines(color_mask(taught_->color.empty() ? held : taught_->color, range())))
    contours.push_back({std::move(line)});
  return contours;
}

Box ColorTarget::extent() const {
  const double side = std::sqrt(min_area(*this));
  return {-side / 2, -side / 2, side, side};
}

FindResult find(const ColorTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain, Work* work) {
  require_valid(options, 1);
  if (prepared.color().empty() && target.needs_color())
    fail_argument(fmt::format("find: the picture is grey; '{}' is a color and needs a color picture",
                              target.settings().name));
  const Image<Rgb> held = prepared.color().empty() ? three_channels(prepared.level(0)) : Image<Rgb>();
  const Image<Rgb>& picture = prepared.color().empty() ? held : prepared.color();
  const ColorSettings& s = target.settings();
  std::array<double, 3> gains{1, 1, 1};  // what makes the white patch what it was at teaching
  FindResult result;
  if (const std::vector<double>& patch = s.white_patch; !patch.empty()) {
    const std::array<double, 3> now = color_of_patch(picture, patch);
    if (const auto level = useless_level(now)) {
      const MissReason limit{
          "white_patch", *level,
          fmt::format("{:g}..{:g} grey levels in each channel", patch_levels.min, patch_levels.max)};
      result.misses.push_back({.x = patch[0] + patch[2] / 2,
                               .y = patch[1] + patch[3] / 2,
                               .reasons = {limit},
                               .has_angle = false});
      return result;
    }
    for (size_t i = 0; i < 3; ++i) gains[i] = patch[4 + i] / now[i];
  }
  Image<uint8_t> mask = color_mask(picture, target.range(), gains);
  if (s.opened > 0) mask = opened(mask, s.opened);
  std::vector<Component> all = components(mask);
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.area > b.area; });
  const double least = min_area(target);
  size_t looked_at = 0;
  for (const Component& c : all) {
    if (c.area < 0.25 * least || looked_at++ > 1000) break;
    if (work && work->stopped()) {
      result.complete = false;
      break;
    }
    if (s.fill_holes && result.misses.size() > 16 && c.area < 0.5 * least) break;
    const Detection one =
        detection_of(blob_of(picture, mask, c, s.fill_holes), s.name, prepared.noise_sigma(0));
    const double area = *one.measurement(measurement::area);
    std::vector<MissReason> missed;
    if (area < least) missed.push_back(too_low(limit::area, area, least));
    if (s.max_area > 0 && area > s.max_area) missed.push_back(too_high(limit::area, area, s.max_area));
    if (const int on_edge = pixels_on_edge(c, mask); s.whole && on_edge > 0)
      missed.push_back(
          {limit::outside, static_cast<double>(on_edge), "no pixel on the picture's edge, or --whole no"});
    take(result, one, options, std::move(missed));
  }
  if (explain == Explain::always && result.complete)
    explain_by_color(target, picture, options, gains, result);
  keep_nearest(result);
  return result;
}

}  // namespace heron
