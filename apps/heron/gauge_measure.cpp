#include <fmt/format.h>

#include <filesystem>
#include <map>

#include "gauge.hpp"
#include "gauge_crops.hpp"
#include "gauge_table.hpp"
#include "help.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/reader/reader.hpp"
#include "log.hpp"
#include "options.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

struct MeasureCommand {
  std::string file, mapping, drawing, crops;
  std::vector<std::string> pictures;
  bool fixed_too = false, json = false;
};

/// Crops are named after their picture: two pictures of one name would write the same files.
void require_own_stems(const std::vector<std::string>& pictures) {
  std::map<std::string, std::string> by_stem;
  for (const std::string& picture : pictures) {
    const auto [known, is_new] = by_stem.emplace(std::filesystem::path(picture).stem().string(), picture);
    if (!is_new)
      fail_argument(fmt::format(
          "gauge measure: the crops of '{}' and '{}' would have the same names; measure them in two calls",
          known->second, picture));
  }
}

int measure_all(MeasureCommand o) {
  o.pictures = with_folders(o.pictures);
  std::vector<std::string> read = o.pictures;
  read.push_back(o.file), read.push_back(o.mapping);
  require_not_read({o.drawing}, read);
  if (!o.crops.empty()) require_own_stems(o.pictures);
  const GaugeSet set = load_gauges(o.file);
  std::optional<MappingRecord> mapping;
  if (!o.mapping.empty()) mapping = load_mapping(o.mapping);
  bool failed = false, not_good = false;
  for (size_t i = 0; i < o.pictures.size(); ++i) try {
      Picture picture = load_picture(o.pictures[i]);
      picture.name = o.pictures[i];
      const PreparedPicture prepared = prepare(picture, set);
      if (mapping) require_size_of(*mapping, prepared, o.pictures[i]);
      const auto begun = std::chrono::steady_clock::now();
      Report report = find_and_measure(set, prepared, frames_of(mapping),
                                       {.fixed_too = o.fixed_too, .heights = height_map_of(picture)});
      report.picture = o.pictures[i], report.elapsed_ms = milliseconds_since(begun);
      read_crops(report, set);
      not_good = not_good || status_of(report) != 0;
      if (o.json)
        fmt::print("{}\n", report_json(report));
      else
        print_readings(report);
      if (!o.crops.empty()) save_crops(o.crops, report);
      if (!o.drawing.empty())
        save_picture(numbered(o.drawing, i, o.pictures.size()), draw_over(prepared, report));
      std::fflush(stdout);
    } catch (const Error& error) {
      if (error.code() != ErrorCode::bad_file) throw;
      failed = true;  // one bad picture does not take the others' answers away
      log_error("{}", error.what());
    }
  return failed ? 2 : not_good ? 1 : 0;
}

}  // namespace

void add_gauge_measure(CLI::App& gauge, Action& action) {
  auto o = std::make_shared<MeasureCommand>();
  CLI::App* c = gauge.add_subcommand("measure", "Finds the parts in pictures, measures and judges them");
  c->add_option("gauges", o->file, "gauge file")->required();
  c->add_option("pictures", o->pictures, "pictures, or folders of pictures")->required();
  c->add_option("--mapping", o->mapping, "mapping file; readings are then in millimetres")
      ->group(where_group);
  c->add_flag("--fixed-too", o->fixed_too, "measures gauges that follow a part also where they were drawn")
      ->group(where_group);
  c->add_option("--picture", o->drawing,
                "draws the result; several pictures get the names FILE-01, FILE-02, ...")
      ->group(output_group);
  c->add_option("--crops", o->crops, "folder for the pictures of crop gauges: PICTURE-GAUGE-PART.png")
      ->group(output_group);
  c->add_flag("--json", o->json, "prints one JSON object for each picture")->group(output_group);
  c->footer(
      "Example: heron gauge measure gauges.toml tray/tray-01.png --picture measured.png\nExit status 1 when "
      "a "
      "picture's verdict is not good.");
  c->callback([o, &action] { action = [o] { return measure_all(*o); }; });
}

}  // namespace heron::tool
