#include "heron/files/target_file.hpp"

#include <fmt/format.h>

#include <array>
#include <filesystem>

#include "codecs.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/toml_file.hpp"

namespace heron {
namespace {

constexpr const char* keyword = "Able Heron target";
constexpr int target_version = 1;

/// FNV-1a (Fowler, Noll, Vo) over size, mask and the pixels that count.
std::string hash_of(const Image<uint8_t>& pixels, const Image<uint8_t>& mask) {
  uint64_t hash = 0xcbf29ce484222325ULL;
  const auto take = [&](uint64_t byte) { hash = (hash ^ (byte & 255)) * 0x100000001b3ULL; };
  for (const int size : {pixels.width(), pixels.height()})
    for (int shift = 0; shift < 32; shift += 8) take(static_cast<uint64_t>(size) >> shift);
  for (int y = 0; y < pixels.height(); ++y)
    for (int x = 0; x < pixels.width(); ++x) {
      take(mask(x, y) ? 1 : 0);
      if (mask(x, y)) take(pixels(x, y));
    }
  return fmt::format("{:016x}", hash);
}

std::string pair(double a, double b) { return fmt::format("[{}, {}]", toml_number(a), toml_number(b)); }

std::string settings_text(const PatternTarget& target) {
  const TeachPattern& s = target.settings();
  const FindLimits& l = s.limits;
  return fmt::format(
      "version = {}\nkind = \"pattern\"\nname = {}\norigin = {}  # picture coordinates of this "
      "file\nleast_strength = {}  # 0: chosen by the picture\ndetail = {}  # 0 every edge, to "
      "3\nheight_step_mm = {}  # 0: grey levels\nsize = [{}, "
      "{}]  # of this picture\nhash = \"{}\"\n\n"
      "[limits]\nangle = {}  # degrees\nscale = {}\nleast_score = {}\nleast_contrast = {}\ncount = {}  # 0: "
      "all\nmost_overlap = {}\nmost_outside = {}\npolarity = \"{}\"\neffort = {}\n\n[part]  # how it stands "
      "and where it is taken\nheight_mm = {}\ngrasp = [{}, "
      "{}, {}]  # x mm, y mm, degrees, in the part's frame\n",
      target_version, toml_text(s.name), pair(target.origin().x, target.origin().y),
      toml_number(s.least_strength), s.detail, toml_number(s.height_step_mm), target.pixels().width(),
      target.pixels().height(), hash_of(target.pixels(), target.mask()),
      pair(l.angle.min.degrees(), l.angle.max.degrees()), pair(l.scale.min, l.scale.max),
      toml_number(l.least_score), toml_number(l.least_contrast), l.count, toml_number(l.most_overlap),
      toml_number(l.most_outside), polarity_word(l.polarity), toml_number(l.effort),
      toml_number(s.place.height_mm), toml_number(s.place.grasp.x), toml_number(s.place.grasp.y),
      toml_number(s.place.grasp.angle.degrees()));
}

constexpr std::array<const char*, 4> polarity_words{"as-taught", "inverted", "either", "per-edge"};

}  // namespace

std::string polarity_word(Polarity polarity) { return polarity_words[static_cast<size_t>(polarity)]; }

Polarity polarity_of(const std::string& word, const char* option) {
  const auto found = std::find(polarity_words.begin(), polarity_words.end(), word);
  if (found == polarity_words.end())
    fail_argument(fmt::format("{} \"{}\" must be as-taught, inverted, either or per-edge", option, word));
  return static_cast<Polarity>(found - polarity_words.begin());
}

void save_target(const std::string& path, const PatternTarget& target) {
  Picture picture;
  picture.pixels = target.pixels();
  write_file(path, encode_png(picture, &target.mask(), {{keyword, settings_text(target)}}));
}

LoadedTarget load_target(const std::string& path) {
  const std::string bytes = read_file(path);
  if (!bytes.starts_with("\x89PNG\r\n\x1a\n"))
    fail_file(path + ": is no target; a target is a PNG picture written by `heron teach`");
  PngContent content = decode_png(bytes, path);
  const auto found = content.texts.find(keyword);
  if (found == content.texts.end() && !content.alpha)
    fail_file(
        fmt::format("{}: is a picture but no target: it has no text chunk \"{}\"; teach from it with `heron "
                    "teach {} --region X,Y,W,H --output TARGET.png`",
                    path, keyword, path));
  Image<uint8_t> pixels = grey_levels(content.picture);
  Image<uint8_t> mask(pixels.width(), pixels.height());
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) mask(x, y) = !content.alpha || (*content.alpha)(x, y) ? 255 : 0;
  if (found == content.texts.end()) {  // a paint program has dropped it, the mask is still there
    const Point2 middle{pixels.width() / 2.0, pixels.height() / 2.0};
    TeachPattern settings{.name = std::filesystem::path(path).stem().string()};
    return {.target = PatternTarget(std::move(pixels), std::move(mask), middle, std::move(settings)),
            .edited = true,
            .settings_lost = true};
  }
  const TomlTable file = TomlTable::parse(found->second, path + " (settings)", target_version);
  file.word("kind", {"pattern"});
  TeachPattern settings;
  settings.name = file.text("name");
  settings.least_strength = file.number("least_strength", 0);
  settings.detail = file.whole("detail", 0);
  settings.height_step_mm = file.number("height_step_mm", 0);
  const std::vector<double> origin = file.numbers("origin", 2);
  const std::string hash = file.text("hash");
  std::vector<double> size;
  if (file.has("size")) {
    size = file.numbers("size", 2);
    if (!(size[0] >= 1 && size[1] >= 1)) fail_file(path + ": size must be two numbers of at least 1");
  }
  if (const auto limits = file.optional_table("limits")) {
    FindLimits& l = settings.limits;
    l.angle = limits->angle_range("angle", l.angle);
    l.scale = limits->range("scale", l.scale);
    l.least_score = limits->number("least_score", l.least_score);
    l.least_contrast = limits->number("least_contrast", l.least_contrast);
    l.count = limits->whole("count", l.count);
    l.most_overlap = limits->number("most_overlap", l.most_overlap);
    l.most_outside = limits->number("most_outside", l.most_outside);
    l.effort = limits->number("effort", l.effort);
    if (limits->has("polarity"))
      l.polarity =
          polarity_of(limits->word("polarity", {polarity_words.begin(), polarity_words.end()}), "polarity");
    limits->done();
  }
  if (const auto part = file.optional_table("part")) {
    settings.place.height_mm = part->number("height_mm", 0);
    if (part->has("grasp")) {
      const auto grasp = part->numbers("grasp", 3);
      settings.place.grasp = {grasp[0], grasp[1], degrees(grasp[2])};
    }
    part->done();
  }
  file.done();
  const bool edited = hash_of(pixels, mask) != hash;
  const bool resized = !size.empty() && (size[0] != pixels.width() || size[1] != pixels.height());
  Point2 at{origin[0], origin[1]};
  if (resized)  // the centre of the first pixel moves too when a picture is stretched
    at = {(at.x + 0.5) * pixels.width() / size[0] - 0.5, (at.y + 0.5) * pixels.height() / size[1] - 0.5};
  return {.target = PatternTarget(std::move(pixels), std::move(mask), at, std::move(settings)),
          .edited = edited,
          .resized = resized};
}

}  // namespace heron
