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
  c.add_option("--count", count, "the best so many; 0 for all");
  c.add_option("--most-overlap", most_overlap, "share of a part that another may cover, 0 to 1");
  c.add_option("--most-outside", most_outside, "share of its edges that may lie outside the picture, 0 to 1");
  c.add_option(
      "--polarity", polarity,
      "as-taught, inverted, either (the whole part alike) or per-edge (each stretch of edges by itself)");
  c.add_option("--effort", effort, "0 looks at the fewest candidates, 1 at all that could still be one");
}

FindLimits LimitOptions::applied_to(FindLimits limits) const {
  if (!angle.empty()) limits.angle = parse_angle_range(angle);
  if (!scale.empty()) limits.scale = parse_range(scale, "--scale");
  if (!polarity.empty()) limits.polarity = polarity_of(polarity, "--polarity");
  if (least_score) limits.least_score = *least_score;
  if (least_contrast) limits.least_contrast = *least_contrast;
  if (most_overlap) limits.most_overlap = *most_overlap;
  if (most_outside) limits.most_outside = *most_outside;
  if (effort) limits.effort = *effort;
  if (count) limits.count = *count;
  return limits;
}

std::vector<std::pair<std::string, std::string>> limit_words(const FindLimits& l, const KindInfo& kind) {
  std::vector<std::pair<std::string, std::string>> words{
      {"angle", fmt::format("{:g}..{:g}", l.angle.min.degrees(), l.angle.max.degrees())},
      {"scale", fmt::format("{:g}..{:g}", l.scale.min, l.scale.max)},
      {"least score", fmt::format("{:g}", l.least_score)},
      {"least contrast", fmt::format("{:g}", l.least_contrast)},
      {"count", l.count ? fmt::format("{}", l.count) : "all"},
      {"most overlap", fmt::format("{:g}", l.most_overlap)},
      {"most outside", fmt::format("{:g}", l.most_outside)},
      {"polarity", polarity_word(l.polarity)},
      {"effort", fmt::format("{:g}", l.effort)}};
  std::erase_if(words, [&](const auto& row) { return !honours(kind, row.first); });
  return words;
}

}  // namespace heron::tool
