#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "gauge.hpp"
#include "gauge_table.hpp"
#include "help.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/gauge/learn.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/plot/gauge_plots.hpp"
#include "heron/reader/reader.hpp"
#include "log.hpp"
#include "options.hpp"
#include "progress.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct LearnCommand {
  std::string file, mapping, plot;
  std::vector<std::string> good, bad;
  bool apply = false, json = false, plot_data = false;
};

void measure_examples(const std::vector<std::string>& pictures, bool good, const GaugeSet& set,
                      const std::optional<MappingRecord>& mapping, Progress& progress,
                      std::vector<ExamplePart>& parts) {
  for (const std::string& path : pictures) {
    Picture picture = load_picture(path);
    picture.name = path;
    const PreparedPicture prepared = prepare(picture, set);
    if (mapping) require_size_of(*mapping, prepared, path);
    Report report = find_and_measure(set, prepared, frames_of(mapping), {.heights = height_map_of(picture)});
    report.picture = path;
    read_crops(report, set);
    const auto own = example_parts(report, good);
    if (own.empty()) log_note("gauge learn: note: no part is found in {}", path);
    parts.insert(parts.end(), own.begin(), own.end());
    progress.step();
  }
}

/// "1 in 5000", "none" below one in ten million.
std::string rate_words(double share) {
  if (!(share > 1e-7)) return "under 1 in 10 million";
  return share > 0.5 ? fmt::format("{:.0f} %", 100 * share) : fmt::format("1 in {:.0f}", 1 / share);
}

void print_learned(const LearnedLimits& learned) {
  fmt::print("{} good and {} bad parts\n", learned.good_parts, learned.bad_parts);
  fmt::print("  {:<20} {:>5} {:>5} {:>5} {:>12} {:>10} {:>10}  {:<22} {:<22} {}\n", "gauge", "good", "bad",
             "told", "nominal", "spread", "gap", "proposed", "good ones rejected", "bad ones accepted");
  for (const LearnedGauge& g : learned.gauges) {
    fmt::print("  {:<20} {:>5} {:>5} {:>5} {:>12.5g} {:>10.3g} {:>10}  ", g.gauge, g.good, g.bad, g.told,
               g.nominal, g.spread, g.gap > 0 ? fmt::format("{:.3g}", g.gap) : "-");
    if (g.proposed.any())
      fmt::print("{:<22} {:<22} {}\n", limits_words(g.proposed) + (g.unit.empty() ? "" : " " + g.unit),
                 g.false_rejects ? rate_words(*g.false_rejects) : "-",
                 g.false_accepts ? rate_words(*g.false_accepts) : "-");
    else
      fmt::print("none: {}\n", g.why);
    if (g.unmeasured > 0) fmt::print("      {} parts without a reading\n", g.unmeasured);
    for (const Contradiction& c : g.contradictions)
      fmt::print("      {} part {} reads {:.5g}: {}\n", c.picture, c.part + 1, c.value, c.why);
  }
  for (const ExampleName& p : learned.untold)
    fmt::print("  no gauge tells {} part {} from the good ones\n", p.picture, p.part + 1);
  fmt::print("  leave one out: {} of {} good parts rejected, {} of {} bad parts accepted\n",
             learned.good_rejected, learned.good_parts, learned.bad_accepted, learned.bad_parts);
  if (learned.good_parts > 0)
    fmt::print(
        "  rates assume that good readings are distributed normally; of any distribution, 1 further good "
        "part in {:.0f} lies\n"
        "  outside what {} good ones showed\n",
        0.5 * (learned.good_parts + 1), learned.good_parts);
}

Json json_of(const LearnedLimits& learned) {
  const auto known = [](const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); };
  Json j{{"good_parts", learned.good_parts}, {"bad_parts", learned.bad_parts}, {"gauges", Json::array()}};
  for (const LearnedGauge& g : learned.gauges) {
    Json one{{"name", g.gauge},
             {"unit", g.unit},
             {"good", g.good},
             {"bad", g.bad},
             {"told", g.told},
             {"unmeasured", g.unmeasured},
             {"nominal", g.nominal},
             {"spread", g.spread},
             {"gap", g.gap > 0 ? Json(g.gap) : Json(nullptr)},
             {"proposed", {{"min", known(g.proposed.min)}, {"max", known(g.proposed.max)}}},
             {"false_rejects", known(g.false_rejects)},
             {"false_accepts", known(g.false_accepts)}};
    if (!g.why.empty()) one["why"] = g.why;
    for (const Contradiction& c : g.contradictions)
      one["contradictions"].push_back(
          {{"picture", c.picture}, {"part", c.part}, {"value", c.value}, {"why", c.why}});
    j["gauges"].push_back(std::move(one));
  }
  for (const ExampleName& p : learned.untold)
    j["untold"].push_back({{"picture", p.picture}, {"part", p.part}});
  j["leave_one_out"] = {{"good_rejected", learned.good_rejected}, {"bad_accepted", learned.bad_accepted}};
  return j;
}

int learn(LearnCommand o) {
  o.good = with_folders(o.good), o.bad = with_folders(o.bad);
  for (const std::string& path : o.bad)
    if (std::find(o.good.begin(), o.good.end(), path) != o.good.end())
      fail_argument(fmt::format("gauge learn: {} is among the good and the bad ones", path));
  if (o.plot_data && o.plot.empty()) fail_argument("gauge learn: --plot-data belongs to --plot");
  if (!o.plot.empty()) require_plot_file(o.plot);
  std::vector<std::string> read = o.good;
  read.insert(read.end(), o.bad.begin(), o.bad.end()), read.push_back(o.mapping), read.push_back(o.file);
  require_not_read({o.plot}, read);
  GaugeSet set = load_gauges(o.file);
  for (Gauge& g : set.gauges) g.unit.clear();  // limits of other units are what is learned anew
  std::optional<MappingRecord> mapping;
  if (!o.mapping.empty()) mapping = load_mapping(o.mapping);
  std::vector<ExamplePart> parts;
  Progress progress(o.good.size() + o.bad.size(), "pictures");
  measure_examples(o.good, true, set, mapping, progress, parts);
  measure_examples(o.bad, false, set, mapping, progress, parts);
  const LearnedLimits learned = learn_limits(set, parts);
  if (o.json)
    fmt::print("{}\n", json_of(learned).dump(-1, ' ', false, Json::error_handler_t::replace));
  else
    print_learned(learned);
  if (!o.plot.empty()) save_plot(o.plot, learned_plot(learned, parts), o.plot_data);
  const bool any = std::any_of(learned.gauges.begin(), learned.gauges.end(),
                               [](const LearnedGauge& g) { return g.proposed.any(); });
  if (o.apply && any) {
    save_gauges(o.file, with_limits(load_gauges(o.file), learned));
    if (!o.json) fmt::print("{}: the proposed limits are written\n", o.file);
  }
  return any ? 0 : 1;
}

}  // namespace

void add_gauge_learn(CLI::App& gauge, Action& action) {
  auto o = std::make_shared<LearnCommand>();
  CLI::App* c = gauge.add_subcommand("learn", "Learns limits from pictures of good and bad parts");
  c->add_option("gauges", o->file, "gauge file")->required();
  const auto option = [&](const char* group, const char* name, auto& value, const char* help) {
    return c->add_option(name, value, help)->group(group);
  };
  option(what_group, "--good", o->good, "pictures or folders in which every part is good; may be repeated")
      ->required()
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  option(what_group, "--bad", o->bad, "pictures or folders in which every part is bad; may be repeated")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  option(where_group, "--mapping", o->mapping, "mapping file; limits are then in millimetres");
  option(output_group, "--plot", o->plot, "plot of readings, gaps and proposed limits, .png, .svg or .pdf");
  c->add_flag("--plot-data", o->plot_data, "writes the plot's data beside it as CSV")->group(output_group);
  c->add_flag("--apply", o->apply, "writes the proposed limits into the gauge file")->group(output_group);
  c->add_flag("--json", o->json, "prints one JSON object")->group(output_group);
  c->footer(
      "Example: heron gauge learn gauges.toml --good good --bad bad --plot learned.png\nExit status 1 when "
      "no limit is proposed.");
  c->callback([o, &action] { action = [o] { return learn(*o); }; });
}

}  // namespace heron::tool
