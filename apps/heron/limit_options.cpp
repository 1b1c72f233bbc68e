#include "limit_options.hpp"

#include <fmt/format.h>

#include "heron/files/target_file.hpp"
#include "options.hpp"

namespace heron::tool {

void LimitOptions::add_to(CLI::App& c) {
  c.add_option("--angle", angle, "-30..30, 30 (both sides) or any; from the taught pose, from +x towards +y");
  c.add_option("--scale", scale, "MIN..MAX, or one number");
  c.add_option("--least-score", least_score, "0 to 100");
  c.add_option("--least-contrast", least_contrast, "grey levels over two pixels, 1 to 255");
  c.add_option("--count", count, "how many to return, best first: a number, or all");
  c.add_option("--min-visible", min_visible, "share of a part that no other part covers, 0 to 1");
  c.add_option("--most-outside", most_outside, "share of its edges that may lie outside the picture, 0 to 1");
  c.add_option(
      "--inversion", inversion,
      "what may be dark where it was bright: none, whole (the part alike) or local (each stretch of edges)");
  c.add_option("--thoroughness", thoroughness, "quick, normal or exhaustive: how many places are looked at");
}

FindLimits LimitOptions::applied_to(FindLimits limits) const {
  if (!angle.empty()) limits.angle = parse_angle_range(angle);
  if (!scale.empty()) limits.scale = parse_range(scale, "--scale");
  if (!inversion.empty()) limits.inversion = inversion_of(inversion, "--inversion");
  if (!thoroughness.empty()) limits.thoroughness = thoroughness_of(thoroughness, "--thoroughness");
  if (!count.empty()) limits.count = count_of(count, "--count");
  if (least_score) limits.least_score = *least_score;
  if (least_contrast) limits.least_contrast = *least_contrast;
  if (min_visible) limits.min_visible = *min_visible;
  if (most_outside) limits.most_outside = *most_outside;
  return limits;
}

std::vector<std::pair<std::string, std::string>> limit_words(const FindLimits& l, const KindInfo& kind) {
  std::vector<std::pair<std::string, std::string>> words{
      {"angle", fmt::format("{:g}..{:g}", l.angle.min.degrees(), l.angle.max.degrees())},
      {"scale", fmt::format("{:g}..{:g}", l.scale.min, l.scale.max)},
      {"least score", fmt::format("{:g}", l.least_score)},
      {"least contrast", fmt::format("{:g}", l.least_contrast)},
      {"count", count_word(l.count)},
      {"min visible", fmt::format("{:g}", l.min_visible)},
      {"most outside", fmt::format("{:g}", l.most_outside)},
      {"inversion", word_of(l.inversion)},
      {"thoroughness", word_of(l.thoroughness)}};
  std::erase_if(words, [&](const auto& row) { return !honours(kind, row.first); });
  return words;
}

}  // namespace heron::tool
