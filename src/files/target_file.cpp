#include "heron/files/target_file.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include <array>
#include <charconv>
#include <filesystem>

#include "base/hash.hpp"
#include "codecs.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/input_budget.hpp"
#include "heron/files/toml_file.hpp"
#include "setting_toml.hpp"

namespace heron {
namespace {

constexpr const char* keyword = "Able Heron target";
constexpr int target_version = 1;

/// Over size, mask and the pixels that count.
std::string hash_of(const TaughtPicture& taught) {
  const auto& [pixels, color, mask, origin, extras] = taught;
  Hash hash;
  for (const int size : {pixels.width(), pixels.height()}) hash.take(static_cast<uint64_t>(size), 4);
  for (int y = 0; y < pixels.height(); ++y)
    for (int x = 0; x < pixels.width(); ++x) {
      hash.take(mask(x, y) ? 1 : 0, 1);
      if (!mask(x, y)) continue;
      if (color.empty()) {
        hash.take(pixels(x, y), 1);
      } else {
        const Rgb p = color(x, y);
        hash.take(p.r, 1), hash.take(p.g, 1), hash.take(p.b, 1);
      }
    }
  return hash.text();
}

std::string pair(double a, double b) { return fmt::format("[{}, {}]", toml_number(a), toml_number(b)); }

const std::vector<const char*> inversion_words{"none", "whole", "local"},
    thoroughness_words{"quick", "normal", "exhaustive"};

/// The limits that a kind honours, each with how it is written and read.
struct LimitRow {
  const char *key, *name, *comment;
  std::string (*text)(const FindOptions&);
  void (*read)(const TomlTable&, FindOptions&);
};

const std::vector<LimitRow>& limit_rows() {
  static const std::vector<LimitRow> rows{
      {"angle", "angle", "degrees",
       [](const FindOptions& l) { return pair(l.angle.min.degrees(), l.angle.max.degrees()); },
       [](const TomlTable& t, FindOptions& l) { l.angle = t.angle_range("angle", l.angle); }},
      {"scale", "scale", "", [](const FindOptions& l) { return pair(l.scale.min, l.scale.max); },
       [](const TomlTable& t, FindOptions& l) { l.scale = t.range("scale", l.scale); }},
      {"min_score", "min score", "", [](const FindOptions& l) { return toml_number(l.min_score); },
       [](const TomlTable& t, FindOptions& l) { l.min_score = t.number("min_score", l.min_score); }},
      {"min_contrast", "min contrast", "", [](const FindOptions& l) { return toml_number(l.min_contrast); },
       [](const TomlTable& t, FindOptions& l) { l.min_contrast = t.number("min_contrast", l.min_contrast); }},
      {"max_count", "max count", "or \"all\"",
       [](const FindOptions& l) {
         return l.max_count == FindOptions::all ? toml_text("all") : count_word(l.max_count);
       },
       [](const TomlTable& t, FindOptions& l) {
         if (t.has("max_count")) l.max_count = t.whole_or("max_count", "all", FindOptions::all);
       }},
      {"min_visible", "min visible", "", [](const FindOptions& l) { return toml_number(l.min_visible); },
       [](const TomlTable& t, FindOptions& l) { l.min_visible = t.number("min_visible", l.min_visible); }},
      {"max_outside", "max outside", "", [](const FindOptions& l) { return toml_number(l.max_outside); },
       [](const TomlTable& t, FindOptions& l) { l.max_outside = t.number("max_outside", l.max_outside); }},
      {"inversion", "inversion", "none, whole or local",
       [](const FindOptions& l) { return toml_text(word_of(l.inversion)); },
       [](const TomlTable& t, FindOptions& l) {
         if (t.has("inversion")) l.inversion = inversion_of(t.text("inversion"), "inversion");
       }},
      {"thoroughness", "thoroughness", "quick, normal or exhaustive",
       [](const FindOptions& l) { return toml_text(word_of(l.thoroughness)); },
       [](const TomlTable& t, FindOptions& l) {
         if (t.has("thoroughness")) l.thoroughness = thoroughness_of(t.text("thoroughness"), "thoroughness");
       }}};
  return rows;
}

std::string settings_text(const Target& target) {
  const TaughtPicture& taught = target.taught();
  std::string text = fmt::format(
      "version = {}\nkind = {}\nname = {}\norigin = {}  # picture coordinates of this file\n", target_version,
      toml_text(target.info().id), toml_text(target.name()), pair(taught.origin.x, taught.origin.y));
  for (const NamedSetting& s : target.settings())
    text += fmt::format("{} = {}  # {}\n", s.name, toml_of(s.value), s.help);
  text += fmt::format("size = [{}, {}]  # of this picture\nhash = \"{}\"\n\n[options]\n",
                      taught.pixels.width(), taught.pixels.height(), hash_of(taught));
  for (const LimitRow& row : limit_rows())
    if (honours(target.info(), row.name))
      text += fmt::format("{} = {}{}{}\n", row.key, row.text(target.options()), *row.comment ? "  # " : "",
                          row.comment);
  const PartGeometry& place = target.geometry();
  return text + fmt::format(
                    "\n[part]  # how it stands and where it is taken\nheight_mm = {}\n"
                    "grasp = [{}, {}, {}]  # x mm, y mm, degrees, in the part's frame\nsize_mm = {}  # real "
                    "length of its first span; 0: not known\n",
                    toml_number(place.height_mm), toml_number(place.grasp.x), toml_number(place.grasp.y),
                    toml_number(place.grasp.angle.degrees()), toml_number(place.size_mm));
}

TeachOptions teach_options_from(const TomlTable& file, const std::string& kind) {
  TeachOptions teaching;
  teaching.name = file.text("name");
  for (const NamedSetting& usual : settings_of(kind))
    teaching.settings[usual.name] = setting_from(file, usual.name, usual.value);
  teaching.options = find_options_of(kind);
  if (const auto options = file.optional_table("options")) {
    for (const LimitRow& row : limit_rows())
      if (honours(kind_named(kind), row.name)) row.read(*options, *teaching.options);
    options->done();
  }
  if (const auto part = file.optional_table("part")) {
    teaching.geometry.height_mm = part->number("height_mm", 0);
    teaching.geometry.size_mm = part->number("size_mm", 0);
    if (part->has("grasp")) {
      const auto grasp = part->numbers("grasp", 3);
      teaching.geometry.grasp = PartFromGrasp(grasp[0], grasp[1], WorldAngle(degrees(grasp[2])));
    }
    part->done();
  }
  return teaching;
}

}  // namespace

std::string word_of(Inversion inversion) { return inversion_words[static_cast<size_t>(inversion)]; }
std::string word_of(Thoroughness thoroughness) {
  return thoroughness_words[static_cast<size_t>(thoroughness)];
}
std::string count_word(int count) { return count == FindOptions::all ? "all" : fmt::format("{}", count); }

Inversion inversion_of(const std::string& word, const char* option) {
  return static_cast<Inversion>(word_index(option, word, inversion_words));
}
Thoroughness thoroughness_of(const std::string& word, const char* option) {
  return static_cast<Thoroughness>(word_index(option, word, thoroughness_words));
}
int count_of(const std::string& word, const char* option) {
  if (word == "all") return FindOptions::all;
  int count = 0;
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), count);
  if (error != std::errc{} || end != word.data() + word.size() || count < 1)
    fail_argument(fmt::format("{} '{}' must be a whole number of at least 1, or all", option, word));
  return count;
}

void save_target(const std::string& path, const Target& target) {
  const TaughtPicture& taught = target.taught();
  Picture picture;
  if (taught.color.empty())
    picture.pixels = taught.pixels;
  else
    picture.pixels = taught.color;
  std::vector<PngExtra> extras;
  for (const TaughtExtra& extra : taught.extras) {
    Picture further;
    further.pixels = extra.pixels;
    extras.push_back({extra.name, encode_png(further, nullptr, {})});
  }
  write_file(path, encode_png(picture, &taught.mask, {{keyword, settings_text(target)}}, extras));
}

LoadedTarget load_target(const std::string& path) {
  const std::string bytes = read_file(path);
  if (!bytes.starts_with("\x89PNG\r\n\x1a\n"))
    fail_file({path}, "is no target; a target is a PNG picture written by `heron teach`");
  PngContent content = decode_png(bytes, path);
  const auto found = content.texts.find(keyword);
  if (found == content.texts.end() && !content.alpha)
    fail_file(
        {path},
        fmt::format("is a picture but no target: it has no text chunk \"{}\"; teach from it with `heron "
                    "teach {} --region X,Y,W,H --output TARGET.png`",
                    keyword, path));
  TaughtPicture taught;
  taught.pixels = grey_levels(content.picture);
  taught.mask = Image<uint8_t>(taught.pixels.width(), taught.pixels.height());
  for (int y = 0; y < taught.mask.height(); ++y)
    for (int x = 0; x < taught.mask.width(); ++x)
      taught.mask(x, y) = !content.alpha || (*content.alpha)(x, y) ? 255 : 0;
  if (found == content.texts.end()) {  // a paint program has dropped it, the mask is still there
    taught.origin = {taught.pixels.width() / 2.0, taught.pixels.height() / 2.0};
    PatternSettings settings{.name = std::filesystem::path(path).stem().string()};
    return {.target = PatternTarget(std::move(taught), std::move(settings)),
            .edited = true,
            .settings_lost = true};
  }
  const TomlTable file = TomlTable::parse(found->second, path + " (settings)", target_version);
  std::vector<std::string> known;
  for (const KindInfo* each : kinds()) known.emplace_back(each->id);
  const std::string kind = file.word("kind", known);
  const TeachOptions teaching = teach_options_from(file, kind);
  const std::vector<double> origin = file.numbers("origin", 2);
  const std::string hash = file.text("hash");
  std::vector<double> size;
  if (file.has("size")) {
    size = file.numbers("size", 2);
    if (!(size[0] >= 1 && size[1] >= 1)) fail_file({path}, "size must be two numbers of at least 1");
  }
  file.done();
  if (kind_named(kind).looks_at_color)
    if (auto* color = std::get_if<Image<Rgb>>(&content.picture.pixels)) taught.color = std::move(*color);
  constexpr size_t max_extras = 8;
  const size_t max_pixels_in_all = input_budget() / 8;  // pixels together
  if (content.extras.size() > max_extras)
    fail_file({path}, fmt::format("holds {} further pictures; at most {} are read", content.extras.size(),
                                  max_extras));
  size_t pixels = 0;
  for (const PngExtra& extra : content.extras) {
    taught.extras.push_back(
        {extra.name, grey_levels(decode_png(extra.bytes, fmt::format("{} ({})", path, extra.name)).picture)});
    const Image<uint8_t>& last = taught.extras.back().pixels;
    pixels += static_cast<size_t>(last.width()) * static_cast<size_t>(last.height());
    if (pixels > max_pixels_in_all)
      fail_file({path}, fmt::format("its further pictures have more than {} million pixels",
                                    max_pixels_in_all >> 20));
  }
  const int width = taught.pixels.width(), height = taught.pixels.height();
  taught.origin = {origin[0], origin[1]};
  const bool edited = hash_of(taught) != hash;
  const bool resized = !size.empty() && (size[0] != width || size[1] != height);
  if (resized)  // the centre of the first pixel moves too when a picture is stretched
    taught.origin = {(origin[0] + 0.5) * width / size[0] - 0.5, (origin[1] + 0.5) * height / size[1] - 0.5};
  try {
    require_origin(taught.origin);
    return {.target = target_from(kind, std::move(taught), teaching), .edited = edited, .resized = resized};
  } catch (const Error& e) {
    throw Error(e.code(), ErrorPlace{path}, e.what());
  }
}

}  // namespace heron
