// How a station watches for slow changes: docs/drift.md.
#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/station/station.hpp"
#include "loaded_set_up.hpp"

namespace heron {
namespace {

constexpr int64_t pictures_between_saves = 100;

std::string learned_file(const StationFile& file, int setup) {
  return (std::filesystem::path(file.store->results.folder) /
          (setup > 0 ? fmt::format("drift-{}.json", setup) : std::string("drift.json")))
      .string();
}

/// What was learned, and the hash of the settings with which it was.
std::pair<std::string, std::string> read_learned(const std::string& path) try {
  const auto j = nlohmann::ordered_json::parse(read_file(path));
  return {j.at("learned").dump(), j.at("settings").get<std::string>()};
} catch (const nlohmann::json::exception& error) {
  fail_file(
      {.file = path},
      fmt::format("holds nothing that was learned of drift ({}); remove it to learn anew", error.what()));
}

}  // namespace

std::optional<DriftWatch> learned_drift(const StationFile& file, const SetUp& setup,
                                        const std::string& hash) {
  if (!setup.drift || !file.store) return std::nullopt;
  const std::string path = learned_file(file, setup.number);
  if (!std::filesystem::exists(path)) return std::nullopt;
  const auto [learned, of] = read_learned(path);
  if (of != hash) return std::nullopt;
  return DriftWatch(*setup.drift, learned, path);
}

/// With a store, what was learned outlives the station.
void Station::begin_drift() {
  for (const auto& [number, setup] : setups_)
    if (auto learned = learned_drift(file_, setup->settings(), setup->hash()))
      drift_.insert_or_assign(number, Drift{std::move(*learned), setup->hash()});
}

/// What is poor from the beginning would be learned as usual, and never be warned of.
void Station::warn_of_poor_light(const Report& report) {
  const std::string poor = poor_light(report.watched);
  if (!poor.empty() && file_.link.warn)
    file_.link.warn(
        fmt::format("the light is poor from the beginning and is learned as usual: {}; "
                    "`heron light` with one of the pictures says what to change",
                    poor));
}

void Station::watch_drift(Report& report) {
  const auto& settings = current_->settings().drift;
  if (!settings) return;
  const int number = current_->settings().number;
  auto at = drift_.find(number);
  if (at == drift_.end() || at->second.settings != current_->hash()) {  // other settings have another usual
    at = drift_.insert_or_assign(number, Drift{DriftWatch(*settings), current_->hash()}).first;
    warn_of_poor_light(report);
  }
  Drift& drift = at->second;
  const bool learning = drift.watch.learning();
  report.drift = drift.watch.take(watched_quantities(report));
  if ((learning && !drift.watch.learning()) || ++drift.taken % pictures_between_saves == 0)
    keep_learned(number);
  std::set<std::string> beyond;
  for (const DriftWarning& w : report.drift) {
    beyond.insert(w.quantity);
    if (!drift.warned.contains(w.quantity) && file_.link.warn)
      file_.link.warn(fmt::format("{} drifts: {:.4g}, usual is {:.4g} \u00b1 {:.2g}; {}", w.quantity, w.value,
                                  w.usual, w.limit, w.cause));
  }
  for (const std::string& name : drift.warned)
    if (!beyond.contains(name) && file_.link.warn) file_.link.warn(fmt::format("{} is as usual again", name));
  drift.warned = std::move(beyond);
}

void Station::keep_learned(int setup) try {
  if (!store_) return;
  const Drift& drift = drift_.at(setup);
  const nlohmann::ordered_json j{{"settings", drift.settings},
                                 {"learned", nlohmann::ordered_json::parse(drift.watch.learned())}};
  write_file(learned_file(file_, setup), j.dump(2) + "\n");
} catch (const Error& error) {
  if (file_.link.warn)
    file_.link.warn(fmt::format("what was learned of drift cannot be kept: {}", error.what()));
}

}  // namespace heron
