#include "find_arguments.hpp"

#include <fmt/format.h>

#include "help.hpp"
#include "heron/files/target_file.hpp"
#include "options.hpp"

namespace heron::tool {

void FindArguments::add_to(CLI::App& c) {
  const auto add = [&](const char* name, auto& value, const char* help) {
    c.add_option(name, value, help)->group(limits_group);
  };
  add("--angle", angle, "accepted angles, degrees from the taught pose: -30..30, 30 (both sides) or any");
  add("--scale", scale, "accepted scales: MIN..MAX, or one number");
  add("--min-score", min_score, "lowest score, 0 to 100");
  add("--min-contrast", min_contrast, "weakest edge that is seen, grey levels over two pixels, 1 to 255");
  add("--max-count", count, "largest number of parts, best first: a number, or all");
  add("--min-visible", min_visible, "smallest share of a part that no other part covers, 0 to 1");
  add("--max-outside", max_outside, "largest share of the edges outside the picture, 0 to 1");
  add("--inversion", inversion,
      "which inversions of brightness are accepted: none, whole (of the whole part) or local (of each "
      "contour "
      "segment)");
  add("--thoroughness", thoroughness, "how many candidates are followed: quick, normal or exhaustive");
}

FindOptions FindArguments::applied_to(FindOptions options) const {
  if (!angle.empty()) options.angle = parse_angle_range(angle);
  if (!scale.empty()) options.scale = parse_range(scale, "--scale");
  if (!inversion.empty()) options.inversion = inversion_of(inversion, "--inversion");
  if (!thoroughness.empty()) options.thoroughness = thoroughness_of(thoroughness, "--thoroughness");
  if (!count.empty()) options.max_count = count_of(count, "--max-count");
  if (min_score) options.min_score = *min_score;
  if (min_contrast) options.min_contrast = *min_contrast;
  if (min_visible) options.min_visible = *min_visible;
  if (max_outside) options.max_outside = *max_outside;
  return options;
}

std::vector<std::pair<std::string, std::string>> option_words(const FindOptions& l, const KindInfo& kind) {
  std::vector<std::pair<std::string, std::string>> words{
      {"angle", fmt::format("{:g}..{:g}", l.angle.min.degrees(), l.angle.max.degrees())},
      {"scale", fmt::format("{:g}..{:g}", l.scale.min, l.scale.max)},
      {"min score", fmt::format("{:g}", l.min_score)},
      {"min contrast", fmt::format("{:g}", l.min_contrast)},
      {"max count", count_word(l.max_count)},
      {"min visible", fmt::format("{:g}", l.min_visible)},
      {"max outside", fmt::format("{:g}", l.max_outside)},
      {"inversion", word_of(l.inversion)},
      {"thoroughness", word_of(l.thoroughness)}};
  std::erase_if(words, [&](const auto& row) { return !honours(kind, row.first); });
  return words;
}

}  // namespace heron::tool
