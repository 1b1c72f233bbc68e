#include "heron/locate/study.hpp"

#include <algorithm>

#include "heron/locate/names.hpp"
#include "heron/locate/prepared_picture.hpp"

namespace heron {
namespace {

constexpr double lowest_score = 25;  // what resembles the part less is not looked at

FindOptions far_beyond(const FindOptions& options, const Target& target) {
  const KindInfo& kind = target.info();
  FindOptions wide = options;
  wide.angle = full_turn;
  if (honours(kind, "scale"))
    wide.scale = {std::max(0.1, std::min(0.5, 0.85 * options.scale.min)),
                  std::min(10.0, std::max(2.0, 1.18 * options.scale.max))};
  wide.min_score = std::min(lowest_score, options.min_score);
  if (honours(kind, "min contrast"))
    wide.min_contrast = std::min(4.0 * target.grey_unit(), options.min_contrast);
  wide.max_count = FindOptions::all, wide.region = {}, wide.max_outside = 1;
  if (honours(kind, "thoroughness"))
    wide.thoroughness = Thoroughness::exhaustive;  // low scores bring many candidates
  return wide;
}

/// The limits that reject a find which only a search far beyond them made.
std::vector<std::string> limits_against(const Detection& s, const FindOptions& l, const Target& target,
                                        const FindResult& found, double near) {
  for (const Miss& m : found.misses) {
    if (distance({s.x, s.y}, {m.x, m.y}) >= near) continue;
    std::vector<std::string> names;
    for (const MissReason& limit : m.reasons) names.push_back(limit.name);
    return names;
  }
  const bool by_contrast = honours(target.info(), "min contrast");
  const double slack = 3 * s.sigma.scale.value_or(0) + 0.004;  // a scale that was held is free here
  std::vector<std::string> names;
  if (s.score < l.min_score) names.emplace_back(limit::score);
  if (by_contrast && s.contrast < l.min_contrast) names.emplace_back(limit::contrast);
  if (target.symmetry_order() != 0 && !contains_turned(l.angle, s.angle)) names.emplace_back(limit::angle);
  if (s.scale < l.scale.min - slack || s.scale > l.scale.max + slack) names.emplace_back(limit::scale);
  if (!l.region.empty() && !l.region.contains({s.x, s.y})) names.emplace_back(limit::region);
  return names;
}

bool is_part(const Target& target, const Detection& s, const KnownPart& part) {
  const double size = std::hypot(target.extent().width, target.extent().height);
  if (distance({s.x, s.y}, {part.x, part.y}) > 0.1 * size) return false;
  if (part.scale && std::abs(s.scale / *part.scale - 1) > 0.1) return false;
  if (!part.angle || !(target.symmetry_order() != 0)) return true;
  const double period = 360.0 / target.symmetry_order();
  return std::abs(std::remainder((s.angle - *part.angle).degrees(), period)) < 10;
}

/// The range of angles that holds all of them: the rest is the widest gap between neighbours.
Range<Angle> range_of(std::vector<double> degrees_of) {
  std::sort(degrees_of.begin(), degrees_of.end());
  double widest = degrees_of.front() + 360 - degrees_of.back();
  size_t after = 0;  // the first angle behind the gap
  for (size_t i = 1; i < degrees_of.size(); ++i)
    if (degrees_of[i] - degrees_of[i - 1] > widest) widest = degrees_of[i] - degrees_of[i - 1], after = i;
  const double width = 360 - widest, margin = std::max(3.0, 0.1 * width);
  if (width + 2 * margin > 300) return full_turn;
  double from = std::floor(degrees_of[after] - margin);
  if (from > 180) from -= 360;
  return {degrees(from), degrees(from + std::ceil(width + 2 * margin))};
}

Range<double> scales_of(const std::vector<double>& scales, const Range<double>& now) {
  const auto [least, most] = std::minmax_element(scales.begin(), scales.end());
  if (now.min == now.max && std::abs(*least - now.min) < 0.006 && std::abs(*most - now.min) < 0.006)
    return now;
  const double width = *most - *least, margin = std::max(0.01, 0.15 * width);
  if (width < 0.004 && std::abs(*least - 1) < 0.003) return {1, 1};
  return {std::floor(100 * (*least - margin)) / 100, std::ceil(100 * (*most + margin)) / 100};
}

}  // namespace

StudiedPicture study_picture(const Target& target, const PreparedPicture& prepared,
                             const FindOptions& options, const FindResult& found,
                             const std::vector<KnownPart>* known) {
  StudiedPicture p;
  p.known = known != nullptr, p.noise_sigma = prepared.noise_sigma(0);
  if (known) p.parts = *known;
  std::vector<Detection> detections = found.detections;
  const size_t within = detections.size();
  const double near = 0.1 * std::hypot(target.extent().width, target.extent().height);
  for (Detection& s : find(target, prepared, far_beyond(options, target), Explain::never).detections) {
    const auto here = [&](const Detection& other) { return distance({s.x, s.y}, {other.x, other.y}) < near; };
    if (std::none_of(detections.begin(), detections.end(), here)) detections.push_back(std::move(s));
  }
  std::vector<bool> met(known ? known->size() : 0, false);
  for (size_t k = 0; k < detections.size(); ++k) {
    const Detection& s = detections[k];
    StudiedFind one{s.x, s.y, s.angle, s.scale, s.score, s.contrast, k < within};
    one.measurements = s.measurements;
    if (!one.within) one.reasons = limits_against(s, options, target, found, near);
    if (known) {
      for (size_t i = 0; i < known->size() && !one.right; ++i)
        if (!met[i] && is_part(target, s, (*known)[i])) met[i] = true, one.right = true;
    } else {
      one.right = one.within;
    }
    if (one.right && one.within) {
      ++p.found;
      p.margin = std::min(p.margin.value_or(100), one.score - options.min_score);
    }
    p.wrong += one.within && !one.right;
    p.finds.push_back(one);
  }
  p.expected = known ? static_cast<int>(known->size()) : p.found;
  p.missing = p.expected - p.found;
  return p;
}

StudyAdvice advise(const Target& target, const FindOptions& options,
                   const std::vector<StudiedPicture>& pictures, int width, int height) {
  StudyAdvice advice;
  advice.options = options;
  std::vector<double> angles, scales, contrasts;
  double x0 = width, x1 = 0, y0 = height, y1 = 0, noise = 0;
  int min_count = 1 << 20, max_count = 0;
  for (const StudiedPicture& p : pictures) {
    min_count = std::min(min_count, p.expected), max_count = std::max(max_count, p.expected);
    noise = std::max(noise, p.noise_sigma);
    for (const StudiedFind& s : p.finds) {
      if (!s.right) continue;
      ++advice.right;
      angles.push_back(s.angle.degrees()), scales.push_back(s.scale), contrasts.push_back(s.contrast);
      x0 = std::min(x0, s.x), x1 = std::max(x1, s.x), y0 = std::min(y0, s.y), y1 = std::max(y1, s.y);
      advice.worst_right = std::min(advice.worst_right.value_or(100), s.score);
    }
  }
  if (advice.right == 0) return advice;

  if (target.symmetry_order() != 0 && honours(target.info(), "angle"))
    advice.options.angle = range_of(angles);
  if (honours(target.info(), "scale")) advice.options.scale = scales_of(scales, options.scale);
  const double weakest = *std::min_element(contrasts.begin(), contrasts.end());
  const double unit = target.grey_unit(), levels = weakest / unit;
  if (honours(target.info(), "min contrast"))
    advice.options.min_contrast =
        unit * std::clamp(std::floor(0.3 * levels), std::max(2.0, std::ceil(3 * noise)),
                          std::max({2.0, std::ceil(3 * noise), levels}));
  advice.options.max_count = min_count == max_count ? max_count : FindOptions::all;

  const double margin = 0.25 * std::hypot(target.extent().width, target.extent().height);
  // Within the picture, but for origins that lie outside it.
  const auto with_margin = [margin](double& least, double& most, double size) {
    least = least < 0 ? std::floor(least - margin) : std::max(0.0, std::floor(least - margin));
    most = most > size ? std::ceil(most + margin) : std::min(size, std::ceil(most + margin));
  };
  with_margin(x0, x1, width), with_margin(y0, y1, height);
  const bool by_region = honours(target.info(), "region") && target.info().region_of_positions;
  if (by_region && (x1 - x0) * (y1 - y0) < 0.7 * width * height)
    advice.region = Box{x0, y0, x1 - x0, y1 - y0};

  for (const StudiedPicture& p : pictures)
    for (const StudiedFind& s : p.finds) {
      const bool in_range =
          (!(target.symmetry_order() != 0) || contains_turned(advice.options.angle, s.angle)) &&
          s.scale >= advice.options.scale.min - 0.004 && s.scale <= advice.options.scale.max + 0.004;
      if (!s.right && in_range) advice.best_wrong = std::max(advice.best_wrong.value_or(0), s.score);
    }
  const double below = advice.best_wrong.value_or(lowest_score);
  advice.separated = *advice.worst_right > below;
  advice.options.min_score = advice.separated ? std::round(0.5 * (*advice.worst_right + below))
                                              : std::floor(*advice.worst_right - 1);
  return advice;
}

}  // namespace heron
