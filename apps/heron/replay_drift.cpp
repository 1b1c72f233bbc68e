// How the watched quantities of a station's stored results went.
#include <fmt/format.h>

#include "heron/base/error.hpp"
#include "heron/files/report_json.hpp"
#include "heron/plot/drift_plot.hpp"
#include "heron/station/station.hpp"
#include "log.hpp"
#include "options.hpp"
#include "replay_drift.hpp"

namespace heron::tool {
namespace {

using Courses = std::map<std::string, QuantityCourse>;  // by name

void add(Courses& courses, const Report& report) {
  for (const auto& [name, value] : watched_quantities(report))
    courses[name].values.push_back({static_cast<double>(report.number), value});
}

/// Of the set-up's results with today's settings: those of before have another usual.
Courses courses_of(const StationFile& file, const SetUp& setup, const ReplayRange& range) {
  const StoreReader store(file.store->results.folder);
  const std::string settings = settings_hash(file, setup);
  Courses courses;
  size_t of_before = 0;
  constexpr size_t at_once = 1000;
  for (uint64_t last = range.from > 0 ? range.from - 1 : 0;;) {
    const auto results = store.after(last, at_once);
    for (const StoredResult& stored : results) {
      if (range.to && stored.number > *range.to) break;
      const Report report = report_of_json(stored.report, fmt::format("result {}", stored.number));
      if (setup.number != (report.setup ? report.setup->number : 0)) continue;
      if (stored.settings == settings)
        add(courses, report);
      else
        ++of_before;
    }
    if (results.size() < at_once || (range.to && results.back().number >= *range.to)) break;
    last = results.back().number;
  }
  if (of_before > 0) log_note("replay: {} results of other settings are left out", of_before);
  return courses;
}

}  // namespace

bool plot_drift(const StationFile& file, const SetUp& setup, const ReplayRange& range,
                const std::string& path) {
  require_plot_file(path);
  require_not_read({path}, settings_files(file, setup));
  Courses courses = courses_of(file, setup, range);
  if (courses.empty()) {
    log_note("replay: no stored result of this range has today's settings; nothing was drawn");
    return false;
  }
  const auto learned = learned_drift(file, setup, settings_hash(file, setup));
  std::vector<QuantityCourse> quantities;
  for (auto& [name, course] : courses) {
    course.name = name;
    if (setup.drift) course.memory = setup.drift->memory;
    if (learned) {
      course.limit = learned->limit(name);
      if (course.limit) course.usual = learned->usual().at(name).mean;
    }
    quantities.push_back(std::move(course));
  }
  save_plot(path, drift_plot(std::move(quantities)));
  return true;
}

}  // namespace heron::tool
