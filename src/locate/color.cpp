#include "heron/locate/color.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "border_share.hpp"
#include "heron/base/median.hpp"
#include "heron/base/work.hpp"
#include "heron/geometry/linear.hpp"
#include "heron/image/components.hpp"
#include "heron/image/noise.hpp"
#include "heron/locate/survey.hpp"
#include "learn_color.hpp"
#include "limits.hpp"
#include "misses.hpp"

namespace heron {
namespace {

constexpr size_t most_sampled = 4000;  // pixels of a sample; more tell nothing new

Colors colors_in(const ImageView<const Rgb>& picture, const Image<uint8_t>& mask, bool inside) {
  size_t all = 0;
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) all += (mask(x, y) != 0) == inside;
  const size_t step = std::max<size_t>(1, all / most_sampled);
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
double least_area(const ColorTarget& target) {
  if (target.settings().least_area > 0) return target.settings().least_area;
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

/// A mean beyond these says nothing about the light: it is clipped, or next to nothing.
constexpr Range<double> patch_levels{10, 250};

/// The channel that says nothing, if one does.
std::optional<double> useless_level(const std::array<double, 3>& patch) {
  for (const double level : patch)
    if (level < patch_levels.min || level > patch_levels.max) return level;
  return std::nullopt;
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

/// A region with its holes filled.
struct Blob {
  Component shape;             ///< of all of it, picture coordinates; border pixels count by their share
  double color_area = 0;       ///< pixels that have the color
  double pixels = 0;           ///< and that it holds
  Point2 spread;               ///< sum over border pixels of (distance from the centroid along x, y) squared
  double contrast = 0;         ///< from the color outside to that inside, along its border
  double uneven = 0;           ///< mean square of what colors beside the border differ by in eight pixels
  double uneven_by_noise = 0;  ///< and what noise of variance 1 makes of that
  Trace outline;
};

/// Adds pixel (x, y), of which `share` belongs to the region.
void add_share(Component& sums, double x, double y, double share) {
  sums.area += share, sums.x += share * x, sums.y += share * y;
  sums.xx += share * x * x, sums.xy += share * x * y, sums.yy += share * y * y;
}

Blob blob_of(const ImageView<const Rgb>& picture, const Image<uint8_t>& mask, const Component& c, bool fill) {
  Blob blob{.shape = c, .color_area = c.area, .pixels = c.area, .spread = {}, .outline = {}};
  Image<uint8_t> alone = component_alone(mask, c);
  if (fill) blob.pixels += static_cast<double>(fill_holes(alone));
  const int left = c.left - 1, top = c.top - 1;
  Component& s = blob.shape;
  s.area = s.x = s.y = s.xx = s.xy = s.yy = 0;
  // Sums about the box's middle keep their digits.
  const double middle_x = 0.5 * (c.left + c.right), middle_y = 0.5 * (c.top + c.bottom);
  const BorderColors border =
      border_shares(picture, alone, left, top, [&](int first, int y, const std::vector<float>& shares) {
        for (size_t i = 0; i < shares.size(); ++i)
          if (shares[i] != 0)
            add_share(s, first + static_cast<double>(i) - middle_x, y - middle_y, shares[i]);
      });
  if (s.area <= 0) s.area = 1;
  blob.contrast = border.contrast;
  blob.uneven = border.uneven, blob.uneven_by_noise = border.uneven_by_noise;
  s.x /= s.area, s.y /= s.area;
  s.xx = s.xx / s.area - s.x * s.x, s.xy = s.xy / s.area - s.x * s.y, s.yy = s.yy / s.area - s.y * s.y;
  s.x += middle_x, s.y += middle_y;
  for (auto& line : border_lines(alone))
    if (line.size() > blob.outline.points.size()) blob.outline.points = std::move(line);
  auto& points = blob.outline.points;
  for (Point2& p : points) p += Point2{static_cast<double>(left), static_cast<double>(top)};
  // Along the border, step by step, for what its pixels weigh in the centroid.
  for (size_t i = 0; i < points.size(); ++i) {
    const Point2 a = points[i], b = points[(i + 1) % points.size()];
    const Point2 from = (a + b) * 0.5 - Point2{s.x, s.y};
    const double length = distance(a, b);
    blob.spread.x += length * from.x * from.x, blob.spread.y += length * from.y * from.y;
  }
  return blob;
}

Sighting sighting_of(const Blob& blob, const std::string& name, double noise) {
  const Component& c = blob.shape;
  Sighting s{.target = name, .x = c.x, .y = c.y};
  Eigen::Matrix2d moments;
  moments << c.xx + 1.0 / 12, c.xy, c.xy, c.yy + 1.0 / 12;
  const SymmetricEigen axes = eigen_symmetric(moments);
  const double across = std::sqrt(std::max(axes.values[0], 1e-9)),
               along = std::sqrt(std::max(axes.values[1], 1e-9));
  // A pixel's length of border: noise of the six pixels that are mixed, and of the colors on both sides, each
  // the mean of about a hundred pixels, that 17 such lengths share (2 x 9 x 17 / 100). Colors that are uneven
  // beside the border are so across it, too: they move it along stretches by what they differ over the three
  // pixels on either side that are mixed.
  constexpr double mixed = 3, stretch = 22;
  const double channel_noise = 1.5 * noise;
  const double noise_share = blob.contrast > 0 ? channel_noise / blob.contrast : 0.3;
  const double uneven = std::max(0.0, blob.uneven - channel_noise * channel_noise * blob.uneven_by_noise);
  const double uneven_share = blob.contrast > 0 ? uneven / (blob.contrast * blob.contrast) : 0;
  const double pixel_variance =
      0.001 + 9 * noise_share * noise_share + stretch * mixed * mixed * uneven_share;
  s.sigma.x = std::sqrt(pixel_variance * blob.spread.x) / c.area;
  s.sigma.y = std::sqrt(pixel_variance * blob.spread.y) / c.area;
  const double angle_noise = std::sqrt(pixel_variance * (blob.spread.x + blob.spread.y)) / c.area * along /
                             std::max(along * along - across * across, 1e-9);
  // Round is what noise of its border could have turned anywhere.
  s.has_angle = along > 1.06 * across && angle_noise < 0.2;
  if (s.has_angle) {
    Angle angle = radians(std::atan2(axes.vectors(1, 1), axes.vectors(0, 1))).wrapped();
    if (angle.degrees() > 90) angle = angle - degrees(180);
    if (angle.degrees() <= -90) angle = angle + degrees(180);
    s.angle = angle;
    s.sigma.angle = radians(angle_noise);
  }
  s.score = 100 * blob.color_area / std::max(blob.pixels, 1.0), s.contrast = blob.contrast;
  s.figures = {{"area", c.area, FigureUnit::square_pixels},
               {"color_area", blob.color_area},
               {"length", 4 * along},  // of the ellipse with these moments
               {"width", 4 * across},
               {"box.x", c.left - 0.5},
               {"box.y", c.top - 0.5},
               {"box.width", c.right - c.left + 1.0},
               {"box.height", c.bottom - c.top + 1.0}};
  s.traces.push_back(blob.outline);
  // How far its border reaches along either axis.
  const Point2 middle{c.x, c.y};
  for (const auto& [extent, column] : {std::pair{"length", 1}, {"width", 0}}) {
    const Point2 axis{axes.vectors(0, column), axes.vectors(1, column)};
    double low = 0, high = 0;
    for (const Point2& p : blob.outline.points)
      low = std::min(low, dot(p - middle, axis)), high = std::max(high, dot(p - middle, axis));
    s.spans.push_back({extent, middle + axis * low, middle + axis * high, 0.3});
  }
  return s;
}

/// What of the color itself kept the largest region of a wider range away.
void explain_by_color(const ColorTarget& target, const ImageView<const Rgb>& picture,
                      const FindLimits& limits, const std::array<double, 3>& gains, Findings& findings) {
  const ColorRange range = target.range();
  ColorRange wide = range;
  for (size_t i = 0; i < 3; ++i) {
    auto& [low, high] = wide.channels[i];
    if (i == 0 && has_hue(wide.space)) {
      double width = high - low;
      if (width < 0) width += 360;
      if (3 * width + 40 >= 360) {
        low = 0, high = 360;
      } else {
        low = std::fmod(low - width - 20 + 720, 360.0), high = std::fmod(high + width + 20, 360.0);
      }
    } else {
      const double width = std::max(high - low, 5.0);
      low -= width, high += width;
    }
  }
  const Image<uint8_t> mask = color_mask(picture, wide, gains);
  std::vector<Component> found = components(mask);
  std::erase_if(found, [&](const Component& c) {
    return c.area < least_area(target) || (!limits.region.empty() && !limits.region.contains({c.x, c.y}));
  });
  if (found.empty()) return;
  std::sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.area > b.area; });
  const Component& c = found.front();
  const Image<uint8_t> alone = component_alone(mask, c);
  std::array<std::vector<double>, 3> values;
  for (int y = c.top; y <= c.bottom; ++y)
    for (int x = c.left; x <= c.right; ++x) {
      if (!alone(x - c.left + 1, y - c.top + 1)) continue;
      const Rgb p = picture(x, y);
      const auto color =
          in_space(std::array<double, 3>{p.r * gains[0], p.g * gains[1], p.b * gains[2]}, range.space);
      for (size_t i = 0; i < 3; ++i) values[i].push_back(color[i]);
    }
  Miss miss{.x = c.x, .y = c.y, .has_angle = false};
  for (size_t i = 0; i < 3; ++i) {
    const double usual = median(values[i]);
    const auto& [low, high] = range.channels[i];
    const bool in = low <= high ? usual >= low && usual <= high : usual >= low || usual <= high;
    if (!in)
      miss.limits.push_back({channel_words(range.space)[i], usual, fmt::format("{:g}..{:g}", low, high)});
  }
  if (!miss.limits.empty()) findings.misses.push_back(std::move(miss));
}

void require_valid(const ColorSettings& s) {
  if (!(s.least_light > 0 && s.least_light <= s.most_light && s.most_light < 100))
    fail_argument(fmt::format("light {}..{} must be above 0, the least first", s.least_light, s.most_light));
  if (!(s.least_area >= 0 && s.most_area >= 0) || (s.most_area > 0 && s.most_area < s.least_area))
    fail_argument(fmt::format("areas {}..{} must be 0 (none set) or above, the least first", s.least_area,
                              s.most_area));
  if (s.opened < 0 || s.opened > 50)
    fail_argument(fmt::format("opened {} must be from 0 to 50 pixels", s.opened));
  if (!s.white_patch.empty() &&
      (s.white_patch.size() != 7 || !(s.white_patch[2] >= 1 && s.white_patch[3] >= 1)))
    fail_argument("white_patch must hold x, y, width, height (at least 1) and red, green, blue");
  for (const auto* channel : {&s.first, &s.second, &s.third})
    if (!channel->empty() && channel->size() != 2)
      fail_argument("each channel of a color must hold two numbers, the least and the most");
}

}  // namespace

const KindInfo& ColorTarget::info() {
  static const KindInfo kind{.word = "color",
                             .what = "regions of a color that nothing else has",
                             .limits = {"least score", "count", "region"},
                             .color = ColorUse::needed,
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
        {"space", space, "the color space: best chooses the one that separates best"},
        {"first", &ColorSettings::first,
         "least and most of the space's first number (a hue from 350 to 10 wraps)"},
        {"second", &ColorSettings::second, "of its second"},
        {"third", &ColorSettings::third, "of its third"},
        {"least_light", &ColorSettings::least_light,
         "darkest light for which the color is learned, against the sample's"},
        {"most_light", &ColorSettings::most_light, "brightest light"},
        {"least_area", &ColorSettings::least_area, "square pixels; 0: a quarter of the sample"},
        {"most_area", &ColorSettings::most_area, "square pixels; 0: any"},
        {"fill_holes", &ColorSettings::fill_holes, "what a region closes in belongs to it"},
        {"opened", &ColorSettings::opened, "pixels: takes away specks and bridges narrower than twice that"},
        {"white_patch", &ColorSettings::white_patch,
         "x, y, width, height of a white patch that holds the colors steady"}};
  }();
  return rows;
}

ColorTarget ColorTarget::taught_from(const TeachingPicture& from, ColorSettings s) {
  TaughtPicture taught = cut_out(from, s.origin);
  if (s.white_patch.size() == 4 && s.white_patch[2] >= 1 && s.white_patch[3] >= 1) {  // learned here
    const auto white = color_of_patch(from.color, s.white_patch);
    if (const auto level = useless_level(white))
      fail_argument(
          fmt::format("teach: the white patch has a channel of {:.0f} grey levels; {:g} to {:g} tell "
                      "the light, so expose otherwise, or take a greyer patch",
                      *level, patch_levels.min, patch_levels.max));
    s.white_patch.insert(s.white_patch.end(), white.begin(), white.end());
  }
  require_valid(s);
  const bool given = !s.first.empty() && !s.second.empty() && !s.third.empty();
  if (given && !s.space) fail_argument("a color range is given without its space; set space too");
  const bool certain = !from.counter_samples.empty();
  Region meant = from.region, against;
  for (const Region& r : from.counter_samples) against.add(r);
  const int w = from.color.width(), h = from.color.height();
  const Image<uint8_t> inside = meant.mask(w, h);
  const Colors sample = colors_in(from.color, inside, true);
  if (sample.size() < 16) fail_argument("teach: the sample holds fewer than 16 pixels; draw a larger one");
  const Colors others =
      certain ? colors_in(from.color, against.mask(w, h), true) : colors_in(from.color, inside, false);
  const LearnedColor learned =
      learn_color(sample, others, certain, noise_sigma(from.grey), s.least_light, s.most_light, s.space);
  if (!given) {
    const ColorRange& range = learned.chosen.range;
    s.space = range.space;
    const auto ends = [&](size_t i) {
      return std::vector<double>{range.channels[i].min, range.channels[i].max};
    };
    s.first = ends(0), s.second = ends(1), s.third = ends(2);
  }
  ColorTarget target(std::move(taught), std::move(s));
  target.separations_ = learned.all;
  target.learned_ = {{"saturation", learned.spread},
                     {"own_share", learned.own_share},
                     {"clipped", learned.clipped},
                     {"apart", learned.chosen.apart},
                     {"leaks", learned.chosen.leaks}};
  for (const ColorSeparation& each : learned.all)
    target.learned_.push_back(
        {fmt::format("apart.{}", color_space_words[static_cast<size_t>(each.range.space)]), each.apart});
  return target;
}

ColorTarget::ColorTarget(TaughtPicture taught, ColorSettings settings)
    : taught_(std::move(taught)), settings_(std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.limits, 1);
  if (taught_.color.empty())
    fail_argument("teach: the picture is grey; a color is taught from a color picture");
  if (!settings_.space || settings_.first.size() != 2 || settings_.second.size() != 2 ||
      settings_.third.size() != 2) {
    // Only the picture is left of it: learned anew from what counts there.
    const Colors sample = colors_in(taught_.color, taught_.mask, true);
    if (sample.size() < 16) fail_argument("teach: the sample holds fewer than 16 pixels; draw a larger one");
    const LearnedColor learned = learn_color(sample, {}, false, noise_sigma(taught_.pixels),
                                             settings_.least_light, settings_.most_light, settings_.space);
    const ColorRange& range = learned.chosen.range;
    settings_.space = range.space;
    const auto ends = [&](size_t i) {
      return std::vector<double>{range.channels[i].min, range.channels[i].max};
    };
    settings_.first = ends(0), settings_.second = ends(1), settings_.third = ends(2);
  }
}

ColorRange ColorTarget::range() const {
  const ColorSettings& s = settings_;
  return {*s.space,
          {Range<double>{s.first[0], s.first[1]}, {s.second[0], s.second[1]}, {s.third[0], s.third[1]}}};
}

std::vector<Figure> ColorTarget::facts() const {
  std::vector<Figure> facts;
  const ColorRange r = range();
  for (size_t i = 0; i < 3; ++i) {
    const std::string name = channel_words(r.space)[i];
    facts.push_back({name + ".least", r.channels[i].min});
    facts.push_back({name + ".most", r.channels[i].max});
  }
  facts.push_back({"least_area", least_area(*this)});
  facts.insert(facts.end(), learned_.begin(), learned_.end());
  return facts;
}

std::vector<Trace> ColorTarget::traces() const {
  std::vector<Trace> traces;
  for (auto& line : border_lines(color_mask(taught_.color, range()))) traces.push_back({std::move(line)});
  return traces;
}

Box ColorTarget::extent() const {
  const double side = std::sqrt(least_area(*this));
  return {-side / 2, -side / 2, side, side};
}

Findings find(const ColorTarget& target, const Survey& survey, const FindLimits& limits, Explain explain,
              Work* work) {
  require_valid(limits, 1);
  if (survey.color().empty())
    fail_argument(fmt::format("find: the picture is grey; '{}' is a color and needs a color picture",
                              target.settings().name));
  const ColorSettings& s = target.settings();
  std::array<double, 3> gains{1, 1, 1};  // what makes the white patch what it was at teaching
  Findings findings;
  if (const std::vector<double>& patch = s.white_patch; !patch.empty()) {
    const std::array<double, 3> now = color_of_patch(survey.color(), patch);
    if (const auto level = useless_level(now)) {
      const LimitMissed limit{
          "white_patch", *level,
          fmt::format("{:g}..{:g} grey levels in each channel", patch_levels.min, patch_levels.max)};
      findings.misses.push_back({.x = patch[0] + patch[2] / 2,
                                 .y = patch[1] + patch[3] / 2,
                                 .limits = {limit},
                                 .has_angle = false});
      return findings;
    }
    for (size_t i = 0; i < 3; ++i) gains[i] = patch[4 + i] / now[i];
  }
  Image<uint8_t> mask = color_mask(survey.color(), target.range(), gains);
  if (s.opened > 0) mask = opened(mask, s.opened);
  std::vector<Component> all = components(mask);
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.area > b.area; });
  const double least = least_area(target);
  size_t looked_at = 0;
  for (const Component& c : all) {
    if (c.area < 0.25 * least || looked_at++ > 1000) break;
    if (work && work->stopped()) {
      findings.complete = false;
      break;
    }
    if (s.fill_holes && findings.misses.size() > 16 && c.area < 0.5 * least) break;
    const Sighting one =
        sighting_of(blob_of(survey.color(), mask, c, s.fill_holes), s.name, survey.noise_sigma(0));
    const double area = *one.figure("area");
    std::vector<LimitMissed> missed;
    if (area < least) missed.push_back(too_low("area", area, least));
    if (s.most_area > 0 && area > s.most_area) missed.push_back(too_high("area", area, s.most_area));
    take(findings, one, limits, std::move(missed));
  }
  if (explain == Explain::always && findings.complete)
    explain_by_color(target, survey.color(), limits, gains, findings);
  keep_nearest(findings);
  return findings;
}

}  // namespace heron
