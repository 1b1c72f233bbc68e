#include "heron/files/gauge_file.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <filesystem>

#include "heron/files/atomic_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/files/toml_file.hpp"
#include "setting_toml.hpp"

namespace heron {
namespace {

constexpr int gauges_version = 1;
const std::vector<std::string> undecided_words{"by_value", "bad"}, outside_words{"refuse", "inside"};

std::string list_of(const std::vector<double>& values) { return toml_of(values); }

std::vector<std::string> words_of(const Follows& f) {
  std::vector<std::string> words;
  if (f.x) words.emplace_back("x");
  if (f.y) words.emplace_back("y");
  if (f.angle) words.emplace_back("angle");
  if (f.scale) words.emplace_back("scale");
  return words;
}

std::string text_of(const GaugeTarget& t) {
  return fmt::format(
      "\n[[target]]\nname = {}\nfile = {}\nat = {}  # x, y, angle, scale on the reference picture\n"
      "# what it was when its gauges were drawn\norigin = {}\npixels = {}\nsettings = {}\n",
      toml_text(t.name), toml_text(t.file),
      list_of({t.reference.x, t.reference.y, t.reference.angle.degrees(), t.reference.scale}),
      list_of({t.stamp.origin.x, t.stamp.origin.y}), toml_text(t.stamp.pixels), toml_text(t.stamp.settings));
}

std::string text_of(const Gauge& g) {
  std::string text =
      fmt::format("\n[[gauge]]\nname = {}\nkind = {}\n", toml_text(g.name), toml_text(kind_of(g)));
  if (!g.anchor.empty()) text += fmt::format("anchor = {}\n", toml_text(g.anchor));
  if (!(g.follows == Follows{})) text += fmt::format("follows = {}\n", toml_of(words_of(g.follows)));
  if (g.anchor_at != Point2{})
    text += fmt::format("anchor_at = {}\n", list_of({g.anchor_at.x, g.anchor_at.y}));
  if (g.outside != OutsidePicture::refuse) text += "outside = \"inside\"\n";
  const std::vector<NamedSetting> usual = settings_of(gauge_kind_named(kind_of(g)));
  const std::vector<NamedSetting> own = settings_of(g.kind);
  for (size_t i = 0; i < own.size(); ++i)
    if (own[i].value != usual[i].value) text += fmt::format("{} = {}\n", own[i].name, toml_of(own[i].value));
  if (g.limits.min) text += fmt::format("min = {}\n", toml_number(*g.limits.min));
  if (g.limits.max) text += fmt::format("max = {}\n", toml_number(*g.limits.max));
  if (!g.unit.empty()) text += fmt::format("unit = {}  # of the limits\n", toml_text(g.unit));
  return text;
}

Follows follows_from(const TomlTable& table) {
  Follows follows{.x = false, .y = false, .angle = false, .scale = false};
  for (const std::string& word : table.texts("follows")) {
    bool* const component = word == "x"       ? &follows.x
                            : word == "y"     ? &follows.y
                            : word == "angle" ? &follows.angle
                            : word == "scale" ? &follows.scale
                                              : nullptr;
    if (!component)
      table.refuse("follows", fmt::format("has \"{}\"; a gauge follows x, y, angle and scale", word));
    *component = true;
  }
  return follows;
}

GaugeTarget target_from(const TomlTable& table, const std::filesystem::path& folder) {
  GaugeTarget t{.name = table.text("name"), .file = table.text("file")};
  const auto at = table.numbers("at", 4), origin = table.numbers("origin", 2);
  if (!(at[3] > 0)) table.refuse("at", "has a scale that is not above 0");
  t.reference = {at[0], at[1], degrees(at[2]), at[3]};
  t.stamp = {table.text("pixels"), table.text("settings"), {origin[0], origin[1]}};
  table.done();
  try {
    t.target = load_target((folder / t.file).string()).target;
  } catch (const Error& error) {
    table.refuse("file", fmt::format("names a target that cannot be read: {}", error.what()));
  }
  if (t.target->name() != t.name)
    table.refuse("name", fmt::format("is \"{}\", and the target in {} is called \"{}\"", t.name, t.file,
                                     t.target->name()));
  t.changed = difference(t.stamp, stamp_of(*t.target));
  return t;
}

Gauge gauge_from(const TomlTable& table) {
  Gauge g{.name = table.text("name")};
  std::vector<std::string> kinds;
  for (const GaugeKind& kind : gauge_kinds()) kinds.emplace_back(id_of(kind));
  g.kind = gauge_kind_named(table.word("kind", kinds));
  g.anchor = table.text("anchor", "");
  if (table.has("follows")) g.follows = follows_from(table);
  if (table.has("anchor_at")) {
    const auto at = table.numbers("anchor_at", 2);
    g.anchor_at = {at[0], at[1]};
  }
  if (table.has("outside") && table.word("outside", outside_words) == "inside")
    g.outside = OutsidePicture::inside;
  for (const NamedSetting& usual : settings_of(g.kind)) try {
      set_setting(g.kind, usual.name, setting_from(table, usual.name, usual.value));
    } catch (const Error& error) {
      if (error.code() == ErrorCode::bad_file) throw;
      table.refuse(usual.name, error.message());
    }
  if (table.has("min")) g.limits.min = table.number("min");
  if (table.has("max")) g.limits.max = table.number("max");
  if (table.has("unit")) g.unit = table.word("unit", {"mm", "px", "mm2", "px2", "mm3", "deg", "%"});
  table.done();
  return g;
}

}  // namespace

void save_gauges(const std::string& path, const GaugeSet& set) {
  set.require_valid();
  std::string text = fmt::format(
      "# Able Heron gauges: what is measured on each part, and within which limits.\nversion = {}\n"
      "reference = {}  # the picture that shapes are drawn on\nguard = {}  # standard uncertainties between "
      "a value and "
      "a limit that are undecided\nundecided = {}  # by_value or bad\n\n[rules]\npart = {}\npicture = {}\n",
      gauges_version, toml_text(set.reference_picture), toml_number(set.guard),
      toml_text(undecided_words[static_cast<size_t>(set.undecided)]), toml_text(set.part_rule),
      toml_text(set.picture_rule));
  for (const GaugeTarget& t : set.targets) text += text_of(t);
  for (const Gauge& g : set.gauges) text += text_of(g);
  write_file(path, text);
}

GaugeSet load_gauges(const std::string& path) {
  const TomlTable file = TomlTable::load(path, gauges_version);
  GaugeSet set;
  set.reference_picture = file.text("reference", "");
  set.guard = file.number("guard", 0);
  if (file.has("undecided") && file.word("undecided", undecided_words) == "bad")
    set.undecided = UndecidedAs::bad;
  if (const auto rules = file.optional_table("rules")) {
    set.part_rule = rules->text("part", set.part_rule),
    set.picture_rule = rules->text("picture", set.picture_rule);
    rules->done();
  }
  const std::filesystem::path folder = std::filesystem::path(path).parent_path();
  if (file.has("target"))
    for (const TomlTable& table : file.tables("target")) set.targets.push_back(target_from(table, folder));
  if (file.has("gauge"))
    for (const TomlTable& table : file.tables("gauge")) set.gauges.push_back(gauge_from(table));
  file.done();
  try {
    set.require_valid();
  } catch (const Error& error) {
    fail_file({.file = path}, error.message());
  }
  return set;
}

}  // namespace heron
