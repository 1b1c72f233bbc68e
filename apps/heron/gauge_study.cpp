#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "gauge.hpp"
#include "gauge_table.hpp"
#include "help.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/gauge/repeatability.hpp"
#include "heron/plot/gauge_plots.hpp"
#include "heron/reader/reader.hpp"
#include "options.hpp"
#include "progress.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct StudyCommand {
  std::string file, mapping, plot;
  std::vector<std::string> folders, known;
  bool json = false, plot_data = false;
};

std::map<std::string, double> known_sizes(const std::vector<std::string>& given) {
  std::map<std::string, double> known;
  for (const std::string& text : given) {
    const size_t sign = text.rfind('=');
    if (sign == std::string::npos)
      fail_argument(fmt::format("gauge study: --known \"{}\" must be NAME=SIZE", text));
    known[text.substr(0, sign)] = parse_numbers(text.substr(sign + 1), 1, "--known", "NAME=SIZE")[0];
  }
  return known;
}

void print_study(const std::vector<Repeatability>& gauges) {
  fmt::print("  {:<20} {:>5} {:>8} {:>12} {:>10} {:>10} {:>10} {:>8} {:>6} {:>6}  {}\n", "gauge", "parts",
             "readings", "mean", "within", "between", "reported", "P/T", "Cg", "Cgk", "worst picture");
  const auto number = [](const std::optional<double>& v, int digits) {
    return v ? fmt::format("{:.{}f}", *v, digits) : std::string("-");
  };
  for (const Repeatability& g : gauges) {
    fmt::print(
        "  {:<20} {:>5} {:>8} {:>12} {:>10.3g} {:>10} {:>10} {:>8} {:>6} {:>6}  {}\n", g.gauge, g.parts,
        g.readings.size(), fmt::format("{:.5g}{}{}", g.mean, g.unit.empty() ? "" : " ", g.unit), g.within,
        g.between ? fmt::format("{:.3g}", *g.between) : "-",
        g.reported ? fmt::format("{:.3g}", *g.reported) : "-",
        g.share_of_tolerance ? fmt::format("{:.1f} %", 100 * *g.share_of_tolerance) : "-", number(g.cg, 2),
        number(g.cgk, 2), g.worst ? fmt::format("{} ({:.5g})", g.worst->picture, g.worst->value) : "-");
    if (g.unmeasured > 0) fmt::print("      {} times without a reading\n", g.unmeasured);
  }
}

Json json_of(const std::vector<Repeatability>& gauges) {
  const auto known = [](const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); };
  Json j = Json::array();
  for (const Repeatability& g : gauges) {
    Json one{{"name", g.gauge},
             {"unit", g.unit},
             {"parts", g.parts},
             {"readings", g.readings.size()},
             {"unmeasured", g.unmeasured},
             {"mean", g.mean},
             {"within", g.within},
             {"between", known(g.between)},
             {"reported", known(g.reported)},
             {"share_of_tolerance", known(g.share_of_tolerance)},
             {"cg", known(g.cg)},
             {"cgk", known(g.cgk)}};
    if (g.worst) one["worst"] = {{"picture", g.worst->picture}, {"value", g.worst->value}};
    j.push_back(std::move(one));
  }
  return {{"gauges", j}};
}

int study(StudyCommand o) {
  const auto known = known_sizes(o.known);
  if (o.plot_data && o.plot.empty()) fail_argument("gauge study: --plot-data belongs to --plot");
  if (!o.plot.empty()) require_plot_file(o.plot);
  const GaugeSet set = load_gauges(o.file);
  std::optional<MappingRecord> mapping;
  if (!o.mapping.empty()) mapping = load_mapping(o.mapping);
  std::vector<std::pair<std::string, std::string>> pictures;  // and their groups
  std::vector<std::string> read{o.file, o.mapping};
  for (const std::string& folder : o.folders)
    for (const std::string& path : with_folders({folder}))
      pictures.emplace_back(path, folder), read.push_back(path);
  require_not_read({o.plot}, read);
  RepeatabilityStudy all;
  Progress progress(pictures.size(), "pictures");
  for (const auto& [path, group] : pictures) {
    Picture picture = load_picture(path);
    picture.name = path;
    const PreparedPicture prepared = prepare(picture, set);
    if (mapping) require_size_of(*mapping, prepared, path);
    Report report = find_and_measure(set, prepared, frames_of(mapping), {.heights = height_map_of(picture)});
    report.picture = path;
    read_crops(report, set);
    all.add(report, group);
    progress.step();
  }
  const std::vector<Repeatability> results = all.results(known);
  if (o.json)
    fmt::print("{}\n", json_of(results).dump(-1, ' ', false, Json::error_handler_t::replace));
  else
    print_study(results);
  if (!o.plot.empty()) save_plot(o.plot, repeatability_plot(results), o.plot_data);
  const bool any =
      std::any_of(results.begin(), results.end(), [](const Repeatability& g) { return !g.readings.empty(); });
  return any ? 0 : 1;
}

}  // namespace

void add_gauge_study(CLI::App& gauge, Action& action) {
  auto o = std::make_shared<StudyCommand>();
  CLI::App* c =
      gauge.add_subcommand("study", "Reports how repeatable gauges are on pictures of the same parts");
  c->add_option("gauges", o->file, "gauge file")->required();
  c->add_option("folders", o->folders, "recordings, each of the same part or parts, measured again and again")
      ->required();
  c->add_option("--mapping", o->mapping, "mapping file; readings are then in millimetres")
      ->group(where_group);
  c->add_option("--known", o->known, "NAME=SIZE: the known size of a part, for Cgk; may be repeated")
      ->group(what_group)
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  c->add_option("--plot", o->plot, "plot of all readings, .png, .svg or .pdf")->group(output_group);
  c->add_flag("--plot-data", o->plot_data, "writes the plot's data beside it as CSV")->group(output_group);
  c->add_flag("--json", o->json, "prints one JSON object")->group(output_group);
  c->footer(
      "Example: heron gauge study gauges.toml repeats --mapping mapping.toml --plot repeats.png\nP/T: six "
      "standard deviations "
      "within parts over the tolerance. Exit status 1 when nothing was measured.");
  c->callback([o, &action] { action = [o] { return study(*o); }; });
}

}  // namespace heron::tool
