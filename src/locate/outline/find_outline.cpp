#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <map>

#include "color_distance.hpp"
#include "heron/image/components.hpp"
#include "heron/image/sample.hpp"
#include "heron/locate/names.hpp"
#include "heron/locate/outline.hpp"
#include "locate/common/cells.hpp"
#include "locate/common/find_options.hpp"
#include "locate/common/misses.hpp"
#include "locate/pattern/model/part_size.hpp"
#include "silhouette.hpp"

namespace heron {
namespace {

/// The taught silhouette as it would lie in the picture, in a window around it.
struct Expected {
  int x0 = 0, y0 = 0;   ///< the window's first pixel
  Image<uint8_t> part;  ///< 255 where the part should be
};

constexpr int search_margin = 16;  // around a part, where pieces that are too much are looked for

Expected expected_at(const OutlineTarget& target, const Detection& s, bool mirrored, int width, int height) {
  const TaughtPicture& t = target.taught();
  const Similarity2 pose{s.x, s.y, s.angle, s.scale}, back = pose.inverse();
  const Box& box = target.extent();
  double left = 1e9, top = 1e9, right = -1e9, bottom = -1e9;
  for (const Point2 corner : {Point2{box.x, box.y},
                              {box.x + box.width, box.y},
                              {box.x, box.y + box.height},
                              {box.x + box.width, box.y + box.height}}) {
    const Point2 p = pose * (mirrored ? Point2{corner.x, -corner.y} : corner);
    left = std::min(left, p.x), right = std::max(right, p.x), top = std::min(top, p.y),
    bottom = std::max(bottom, p.y);
  }
  Expected e;
  e.x0 = std::max(0, static_cast<int>(left) - search_margin),
  e.y0 = std::max(0, static_cast<int>(top) - search_margin);
  const int x1 = std::min(width, static_cast<int>(right) + search_margin + 1),
            y1 = std::min(height, static_cast<int>(bottom) + search_margin + 1);
  e.part = Image<uint8_t>(std::max(0, x1 - e.x0), std::max(0, y1 - e.y0));
  for (int y = 0; y < e.part.height(); ++y)
    for (int x = 0; x < e.part.width(); ++x) {
      Point2 p = back * Point2{static_cast<double>(x + e.x0), static_cast<double>(y + e.y0)};
      if (mirrored) p.y = -p.y;
      p += t.origin;
      const int u = static_cast<int>(std::lround(p.x)), v = static_cast<int>(std::lround(p.y));
      if (t.mask.view().holds(u, v) && t.mask(u, v) && can_sample(t.pixels.view(), p.x, p.y) &&
          bilinear(t.pixels.view(), p.x, p.y) >= 128)
        e.part(x, y) = 255;
    }
  return e;
}

/// How many pixels (city blocks weighed 5 and 7, by 5) lie between each pixel and the mask's border
/// (Borgefors, Distance transformations in digital images, CVGIP 34, 1986).
Image<uint16_t> border_distance(const Image<uint8_t>& mask) {
  const int w = mask.width(), h = mask.height();
  Image<uint16_t> far(w, h);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      const bool in = mask(x, y) != 0;
      const auto differs = [&](int u, int v) { return mask.view().holds(u, v) && (mask(u, v) != 0) != in; };
      const bool border = differs(x - 1, y) || differs(x + 1, y) || differs(x, y - 1) || differs(x, y + 1);
      far(x, y) = border ? 2 : 60000;
    }
  const auto relax = [&](int x, int y, int dx, int dy, int cost) {
    if (!mask.view().holds(x + dx, y + dy)) return;
    far(x, y) = static_cast<uint16_t>(std::min<int>(far(x, y), far(x + dx, y + dy) + cost));
  };
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      relax(x, y, -1, 0, 5), relax(x, y, 0, -1, 5), relax(x, y, -1, -1, 7), relax(x, y, 1, -1, 7);
  for (int y = h - 1; y >= 0; --y)
    for (int x = w - 1; x >= 0; --x)
      relax(x, y, 1, 0, 5), relax(x, y, 0, 1, 5), relax(x, y, 1, 1, 7), relax(x, y, -1, 1, 7);
  return far;
}

struct Difference {
  double area = 0;  ///< of what is there of the part
  double deviation = 0;
  std::vector<Defect> defects;
};

/// What is missing and what is too much; `others` marks what other finds account for.
Difference difference_at(const OutlineTarget& target, const Image<uint8_t>& silhouette, const Expected& e,
                         const Image<uint8_t>& others) {
  Difference d;
  if (e.part.empty()) return d;
  const int w = e.part.width(), h = e.part.height();
  Image<uint8_t> missing(w, h), extra(w, h);
  const Image<uint16_t> far = border_distance(e.part);
  constexpr double per_pixel = 5;
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      const bool there = silhouette(x + e.x0, y + e.y0) >= 128, should = e.part(x, y) != 0;
      d.area += there && (should || far(x, y) < 3 * per_pixel);
      if (far(x, y) < 1.5 * per_pixel) continue;  // the border itself is judged by its edges
      if (should && !there) missing(x, y) = 255;
      if (!should && there && far(x, y) <= search_margin * per_pixel && !others(x + e.x0, y + e.y0))
        extra(x, y) = 255;
    }
  for (const auto& [mask, what] : {std::pair{&missing, defect::missing}, {&extra, defect::extra}})
    for (const Component& c : components(*mask)) {
      const double area = c.area;
      double deepest = 0, nearest = 1e9;
      const Image<uint8_t> alone = component_alone(*mask, c);
      for (int y = c.top; y <= c.bottom; ++y)
        for (int x = c.left; x <= c.right; ++x)
          if (alone(x - c.left + 1, y - c.top + 1))
            deepest = std::max(deepest, far(x, y) / per_pixel),
            nearest = std::min(nearest, far(x, y) / per_pixel);
      if (area < target.settings().min_defect) continue;
      const bool from_outline = nearest < 3;  // else a hole or a speck of its own
      if (from_outline) d.deviation = std::max(d.deviation, deepest);
      if (!from_outline) deepest -= nearest;
      d.defects.push_back({what, c.x + e.x0, c.y + e.y0, area, deepest});
    }
  std::stable_sort(d.defects.begin(), d.defects.end(),
                   [](const Defect& a, const Defect& b) { return a.area > b.area; });
  if (d.defects.size() > 20) d.defects.resize(20);
  return d;
}

struct Match {
  Detection detection;
  bool mirrored = false;
};

/// The better of two on one spot stays; a mirrored one has to be better by half of what the two shapes differ
/// by, `mirror_gap` of the score.
std::vector<Match> best_by_spot(std::vector<Match> all, double apart, double mirror_gap) {
  const auto rank = [&](const Match& m) { return m.detection.score * (m.mirrored ? 1 - mirror_gap / 2 : 1); };
  std::stable_sort(all.begin(), all.end(), [&](const Match& a, const Match& b) { return rank(a) > rank(b); });
  std::vector<Match> kept;
  for (Match& m : all) {
    const auto here = [&](const Match& o) {
      return distance({o.detection.x, o.detection.y}, {m.detection.x, m.detection.y}) < apart;
    };
    if (std::none_of(kept.begin(), kept.end(), here)) kept.push_back(std::move(m));
  }
  return kept;
}

/// Parts of the silhouette that nothing accounts for: too large, too small, or another shape.
void tell_of_others(const OutlineTarget& target, const Image<uint8_t>& silhouette,
                    const Image<uint8_t>& taken, const FindOptions& options, FindResult& result) {
  Image<uint8_t> mask(silhouette.width(), silhouette.height());
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) mask(x, y) = silhouette(x, y) >= 128 ? 255 : 0;
  std::vector<Component> all = components(mask);
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.area > b.area; });
  const double max_scale = options.scale.max * options.scale.max,
               min_scale = options.scale.min * options.scale.min;
  for (const Component& c : all) {
    const double share = 100 * c.area / target.area();
    const bool too_large = share > 160 * max_scale;
    if (share < 30 * min_scale || (!too_large && result.misses.size() >= max_misses)) break;
    const Image<uint8_t> alone = component_alone(mask, c);
    double known = 0;
    for (int y = c.top; y <= c.bottom; ++y)
      for (int x = c.left; x <= c.right; ++x) known += alone(x - c.left + 1, y - c.top + 1) && taken(x, y);
    if (known > 0.3 * c.area) continue;
    const auto told = [&](const Miss& m) {
      return m.x >= c.left && m.x <= c.right && m.y >= c.top && m.y <= c.bottom;
    };
    // Weak matches within a heap say less than the heap itself.
    if (too_large)
      std::erase_if(result.misses, [&](const Miss& m) {
        return told(m) && !m.reasons.empty() && m.reasons[0].name == limit::score;
      });
    if (std::any_of(result.misses.begin(), result.misses.end(), told)) continue;
    if (!options.region.empty() && !options.region.contains({c.x, c.y})) continue;
    Miss miss{.x = c.x, .y = c.y};
    if (too_large)
      miss.reasons.push_back(
          {limit::area, share, "100 per cent of the taught area for one part; two together?"});
    else
      miss.reasons.push_back({limit::shape, share, "the taught outline"});
    result.misses.insert(too_large ? result.misses.begin() : result.misses.end(), std::move(miss));
  }
}

/// Outlines err in stretches: where another part, tape or a shadow touches them, or where blur rounds a tip,
/// all edges of it are off together. What stretches of this size pull at the pose is its sigma, where that is
/// more.
PoseSigma sigma_by_stretches(const Detection& s) {
  constexpr double segment = 56;  // pixels
  const bool turns = s.has_angle, scales = s.sigma.scale.value_or(0) > 0;
  Eigen::Matrix4d normal = Eigen::Matrix4d::Zero();
  std::map<std::pair<int, int>, Eigen::Vector4d> contributions;
  for (const EdgeMatch& e : s.edges) {
    if (e.weight <= 0) continue;
    const Point2 arm = e.place - Point2{s.x, s.y};
    const Eigen::Vector4d by_pose(e.normal.x, e.normal.y, turns ? cross(arm, e.normal) : 0,
                                  scales ? dot(arm, e.normal) : 0);
    const double w = static_cast<double>(e.weight) * static_cast<double>(e.weight);
    normal += w * by_pose * by_pose.transpose();
    const auto at = std::pair(static_cast<int>(std::floor(arm.x / segment)),
                              static_cast<int>(std::floor(arm.y / segment)));
    contributions.try_emplace(at, Eigen::Vector4d::Zero()).first->second +=
        w * static_cast<double>(e.distance) * by_pose;
  }
  for (int i = 2; i < 4; ++i)
    if (normal(i, i) == 0) normal(i, i) = 1;
  if (contributions.size() < 6 || std::abs(normal.determinant()) < 1e-9) return s.sigma;
  std::vector<Eigen::Vector4d> cells;
  for (const auto& [at, contribution] : contributions) cells.push_back(contribution);
  const Eigen::Matrix4d c = covariance_of_cells(cells, Eigen::Matrix4d(normal.inverse()));
  // Stretches pull by chance, too: only what is beyond it says that there is more.
  const Eigen::Array4d chance = 1 + (2 / freedom_of_cells(cells)).sqrt();
  const auto raised = [&](double sigma, int i, double factor = 1) {
    return std::hypot(sigma, std::sqrt(std::max(0.0, factor * factor * c(i, i) - chance[i] * sigma * sigma)));
  };
  PoseSigma raised_all = s.sigma;
  raised_all.x = raised(*s.sigma.x, 0), raised_all.y = raised(*s.sigma.y, 1);
  if (turns) raised_all.angle = radians(raised(s.sigma.angle->radians(), 2));
  raised_all.scale = scales ? raised(*s.sigma.scale, 3, s.scale) : 0;
  return raised_all;
}

PreparedPicture away_from_backdrop(const OutlineSettings& s, const PreparedPicture& prepared) {
  if (prepared.color().empty())
    fail_argument(
        fmt::format("find: the picture is grey; '{}' lies on a color and needs a color picture", s.name));
  return PreparedPicture(
      distance_from_color(prepared.color(), three_of(s.backdrop_color), three_of(s.towards)));
}

}  // namespace

FindResult find(const OutlineTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain, Work* work) {
  const OutlineSettings& s = target.settings();
  if (s.backdrop == Backdrop::unknown) {
    FindOptions any = options;
    any.inversion = Inversion::local;
    any.max_count = FindOptions::all;  // what deviates does not count
    FindResult all = find(target.shape(), prepared, any, explain, work), result;
    result.complete = all.complete, result.misses = std::move(all.misses);
    for (Detection& one : all.detections) {
      float most = 0;
      for (const EdgeMatch& e : one.edges)
        if (e.weight > 0) most = std::max(most, std::abs(e.distance));
      one.measurements = {
          {measurement::area, target.area() * one.scale * one.scale, MeasurementUnit::square_pixels},
          {measurement::deviation, most}};
      std::vector<MissReason> missed;
      if (s.max_deviation > 0 && most > s.max_deviation)
        missed.push_back(too_high(limit::deviation, most, s.max_deviation));
      take(result, std::move(one), options, std::move(missed));
    }
    keep_nearest(result);
    return result;
  }
  SilhouetteBy by{.tone = s.tone, .threshold = s.threshold, .level = s.level};
  for (const TaughtExtra& extra : target.taught().extras) {
    if (extra.pixels.width() != prepared.width() || extra.pixels.height() != prepared.height())
      fail_argument(fmt::format(
          "find: the background of '{}' has {} x {} pixels, the picture {} x {}; both must be "
          "taken by the same camera",
          s.name, extra.pixels.width(), extra.pixels.height(), prepared.width(), prepared.height()));
    (extra.name == "spread" ? by.spread : by.behind) = &extra.pixels;
  }
  const PreparedPicture silhouette(s.backdrop == Backdrop::color
                                       ? silhouette_of(away_from_backdrop(s, prepared), by)
                                       : silhouette_of(prepared, by));
  FindOptions wide = options;
  wide.max_count = FindOptions::all;  // what is mirrored or flawed does not count
  FindResult plain = find(target.shape(), silhouette, wide, explain, work);
  std::vector<Match> matches;
  for (Detection& one : plain.detections) matches.push_back({std::move(one), false});
  if (target.mirrored()) {
    FindResult turned = find(*target.mirrored(), silhouette, wide, Explain::never, work);
    for (Detection& one : turned.detections) matches.push_back({std::move(one), true});
    plain.complete = plain.complete && turned.complete;
  }
  matches = best_by_spot(std::move(matches), 0.3 * std::min(target.extent().width, target.extent().height),
                         1 - target.likeness_of_mirrored() / 100);

  FindResult result;
  result.complete = plain.complete;
  Image<uint8_t> taken(prepared.width(), prepared.height());
  std::vector<Expected> expected;
  for (const Match& m : matches) {
    expected.push_back(expected_at(target, m.detection, m.mirrored, prepared.width(), prepared.height()));
    const Expected& e = expected.back();
    for (int y = 0; y < e.part.height(); ++y)
      for (int x = 0; x < e.part.width(); ++x)
        if (e.part(x, y)) taken(x + e.x0, y + e.y0) = 255;
  }
  for (size_t i = 0; i < matches.size(); ++i) {
    Detection& one = matches[i].detection;
    Difference d = difference_at(target, silhouette.level(0), expected[i], taken);
    for (const EdgeMatch& e : one.edges)
      if (e.weight > 0) d.deviation = std::max(d.deviation, static_cast<double>(std::abs(e.distance)));
    double flawed = 0;
    for (const Defect& f : d.defects) flawed += f.area;
    one.measurements = {{measurement::area, d.area, MeasurementUnit::square_pixels},
                        {measurement::deviation, d.deviation},
                        {measurement::mirrored, matches[i].mirrored ? 1.0 : 0.0}};
    one.defects = std::move(d.defects);
    one.sigma = sigma_by_stretches(one);
    std::vector<MissReason> missed;
    const double share = 100 * d.area / (target.area() * one.scale * one.scale);
    if (matches[i].mirrored && !s.mirrored) missed.push_back({limit::mirrored, 1, "not mirrored"});
    if (s.min_area > 0 && share < s.min_area) missed.push_back(too_low(limit::area, share, s.min_area));
    if (s.max_area > 0 && share > s.max_area) missed.push_back(too_high(limit::area, share, s.max_area));
    if (s.max_deviation > 0 && d.deviation > s.max_deviation)
      missed.push_back(too_high(limit::deviation, d.deviation, s.max_deviation));
    if (s.max_defect > 0 && flawed > s.max_defect)
      missed.push_back(too_high(limit::defect, flawed, s.max_defect));
    take(result, std::move(one), options, std::move(missed));
  }
  const auto accounted = [&](const Miss& m) {
    const int x = static_cast<int>(m.x), y = static_cast<int>(m.y);
    return taken.view().holds(x, y) && taken(x, y);
  };
  for (Miss& m : plain.misses)
    if (!accounted(m)) result.misses.push_back(std::move(m));
  tell_of_others(target, silhouette.level(0), taken, options, result);
  keep_nearest(result);
  return result;
}

}  // namespace heron
