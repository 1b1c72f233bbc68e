#include "gauge.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <filesystem>

#include "gauge_table.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/gauge/measure.hpp"
#include "kind_options.hpp"

namespace heron::tool {
namespace {

struct FileCommand {
  std::string file, name;
};

std::string follows_words(const Gauge& g) {
  if (g.anchor.empty()) return "-";
  std::string words = g.anchor;
  if (g.anchor == "picture" || g.anchor == "world") return words;
  const Follows& f = g.follows;
  if (f == Follows{}) return words;
  std::string components;
  for (const auto& [follows, name] :
       {std::pair{f.x, "x"}, {f.y, "y"}, {f.angle, "angle"}, {f.scale, "scale"}})
    if (follows) components += fmt::format("{}{}", components.empty() ? "" : ",", name);
  return fmt::format("{} ({})", words, components.empty() ? "nothing" : components);
}

int list(const std::string& file) {
  const GaugeSet set = load_gauges(file);
  fmt::print("{}: {} gauges, drawn on {}\n", file, set.gauges.size(), set.reference_picture);
  if (!set.gauges.empty())
    fmt::print("  {:<20} {:<9} {:<20} {:<16} {}\n", "gauge", "kind", "follows", "limits", "settings");
  for (const Gauge& g : set.gauges) {
    std::string settings;
    const auto usual = settings_of(gauge_kind_named(kind_of(g))), own = settings_of(g.kind);
    for (size_t i = 0; i < own.size(); ++i)
      if (own[i].value != usual[i].value)
        settings +=
            fmt::format("{}{} {}", settings.empty() ? "" : "; ", own[i].name, setting_words(own[i].value));
    fmt::print("  {:<20} {:<9} {:<20} {:<16} {}\n", g.name, kind_of(g), follows_words(g),
               limits_words(g.limits) + (g.limits.any() && !g.unit.empty() ? " " + g.unit : ""), settings);
  }
  for (const GaugeTarget& t : set.targets)
    fmt::print("  target {} ({}) at ({:.2f}, {:.2f}) px, {:.2f} degrees{}\n", t.name, t.file, t.reference.x,
               t.reference.y, t.reference.angle.degrees(),
               t.changed.empty() ? "" : fmt::format("; taught again: {} changed", t.changed));
  fmt::print("  rules: part {}; picture {}\n", set.part_rule, set.picture_rule);
  return 0;
}

int remove(const FileCommand& o) {
  GaugeSet set = load_gauges(o.file);
  const auto gone =
      std::find_if(set.gauges.begin(), set.gauges.end(), [&](const Gauge& g) { return g.name == o.name; });
  if (gone == set.gauges.end()) {
    std::vector<std::string> there;
    for (const Gauge& g : set.gauges) there.push_back(g.name);
    fail_argument(fmt::format("gauge remove: {} has no gauge '{}'; it has: {}", o.file, o.name,
                              fmt::join(there, ", ")));
  }
  set.gauges.erase(gone);
  // Targets that nothing names any more go with it.
  std::erase_if(set.targets, [&](const GaugeTarget& t) {
    return std::none_of(set.gauges.begin(), set.gauges.end(), [&](const Gauge& g) {
      bool named = g.anchor == t.name;
      for (const NamedSetting& s : settings_of(g.kind))
        if (const auto* text = std::get_if<std::string>(&s.value)) named = named || *text == t.name;
      return named;
    });
  });
  save_gauges(o.file, set);
  fmt::print("{}: {} gauges\n", o.file, set.gauges.size());
  return 0;
}

int confirm_file(const std::string& file) {
  GaugeSet set = load_gauges(file);
  const auto folder = std::filesystem::path(file).parent_path();
  const Picture picture = load_picture((folder / set.reference_picture).string());
  const std::vector<ConfirmedTarget> all = confirm(set, prepare(picture, set));
  bool lost = false;
  for (const ConfirmedTarget& t : all) {
    const std::string changed = t.changed.empty() ? "unchanged" : t.changed + " changed";
    if (t.found)
      fmt::print("  {}: {}; on the reference picture it now lies {:.3f} px from where it was\n", t.name,
                 changed, t.moved_px);
    else
      fmt::print("  {}: {}; not found on the reference picture\n", t.name, changed);
    lost = lost || !set.target(t.name)->changed.empty();
  }
  save_gauges(file, set);
  if (lost) fmt::print("gauges of targets that are not found stay stale\n");
  return lost ? 1 : 0;
}

int list_kinds() {
  for (const GaugeKind& kind : gauge_kinds()) {
    fmt::print("{:<9} {}\n", id_of(kind), what_of(kind));
    for (const NamedSetting& s : settings_of(kind))
      if (!s.learned)
        fmt::print("            {:<22} {} [{}]\n", option_of(s.name), s.help, setting_words(s.value));
  }
  return 0;
}

}  // namespace

Frames frames_of(const std::optional<MappingRecord>& mapping) {
  return mapping ? Frames{&mapping->mapping, mapping->axes ? &*mapping->axes : nullptr} : Frames{};
}

int status_of(const Report& report) { return report.verdict && *report.verdict != Verdict::good ? 1 : 0; }

void add_gauge(CLI::App& app, Action& action) {
  CLI::App* c = app.add_subcommand("gauge", "Measures found parts and judges them by limits");
  c->require_subcommand(1);
  add_gauge_add(*c, action);
  add_gauge_measure(*c, action);
  add_gauge_learn(*c, action);
  add_gauge_study(*c, action);
  const auto command = [&](const char* name, const char* what, const char* example, auto work) {
    auto o = std::make_shared<FileCommand>();
    CLI::App* sub = c->add_subcommand(name, what);
    sub->add_option("gauges", o->file, "gauge file")->required();
    if (std::string(name) == "remove") sub->add_option("name", o->name, "name of the gauge")->required();
    sub->footer(fmt::format("Example: {}", example));
    sub->callback([o, work, &action] { action = [o, work] { return work(*o); }; });
  };
  command("list", "Lists the gauges of a file", "heron gauge list gauges.toml",
          [](const FileCommand& o) { return list(o.file); });
  command("remove", "Removes a gauge", "heron gauge remove gauges.toml stem", remove);
  command("confirm", "Accepts targets that were taught again, so that their gauges measure",
          "heron gauge confirm gauges.toml", [](const FileCommand& o) { return confirm_file(o.file); });
  CLI::App* kinds = c->add_subcommand("kinds", "Lists the kinds of gauges with their settings");
  kinds->footer("Example: heron gauge kinds");
  kinds->callback([&action] { action = [] { return list_kinds(); }; });
}

}  // namespace heron::tool
