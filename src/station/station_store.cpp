// How a station keeps its results: docs/delivery.md.
#include <fmt/format.h>

#include <filesystem>

#include "base/hash.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/station/station.hpp"
#include "recording_of.hpp"

namespace heron {

std::vector<std::string> settings_files(const StationFile& file, const SetUp& setup) {
  std::vector<std::string> files{file.path, setup.path, setup.mapping, setup.gauges};
  if (setup.heights) files.push_back(setup.heights->ground);
  if (setup.drift) files.push_back(setup.drift->reference);
  if (setup.gripper) files.push_back(setup.gripper->table);
  if (setup.place) files.push_back(setup.place->target);
  for (const StationTarget& t : setup.targets) files.push_back(t.file);
  std::erase_if(files, [](const std::string& path) { return path.empty(); });
  return files;
}

std::string settings_hash(const StationFile& file, const SetUp& setup) {
  Hash hash;
  for (const std::string& path : settings_files(file, setup)) hash.take(read_file(path));
  return hash.text();
}

namespace {

/// A reason without what differs from picture to picture: up to its first number or colon.
std::string kind_of(const std::string& reason) {
  std::string kind = reason.substr(0, reason.find_first_of(":0123456789\n"));
  while (!kind.empty() && kind.back() == ' ') kind.pop_back();
  return kind;
}

/// A part that was sent in an earlier result is withheld, and no failure.
bool failed_to_go(const ReportedPart& p) { return !p.withheld.empty() && !(p.track && p.track->told_in > 0); }

}  // namespace

bool is_bad(const Report& report) {
  if (report.parts.empty() || (report.verdict && *report.verdict != Verdict::good)) return true;
  return std::any_of(report.parts.begin(), report.parts.end(), failed_to_go);
}

std::string failure_kind(const Report& report) {
  if (!report.unusable.empty()) return "unusable";
  for (const Reading& r : report.readings)
    if (r.state != Verdict::good) return fmt::format("{}: {}", r.gauge, word_of(r.state));
  for (const ReportedPart& p : report.parts)
    if (failed_to_go(p)) return fmt::format("{} withheld: {}", p.detection.target, kind_of(p.withheld));
  if (!report.parts.empty()) return {};
  if (report.misses.empty() || report.misses[0].reasons.empty()) return "nothing found";
  return "turned away by " + report.misses[0].reasons[0].name;
}

/// Before the link: its greeting holds the store's session.
void Station::open_store() {
  if (!file_.store || store_) return;
  store_.emplace(file_.store->results);
  file_.link.session = store_->session();
  file_.link.newest = number_ = store_->newest();
  resume_set_up();
  begin_drift();
  for (auto& [address, camera] : cameras_) {
    const uint64_t taken = store_->taken_of(address);
    if (own_recordings_.contains(address) && taken > 0) camera = recording_of(address, taken);
    taken_before_ += taken;
  }
  if (file_.store->pictures != KeptPictures::none)
    pictures_.emplace(file_.store->results.folder + "/pictures", file_.store->keep_pictures,
                      file_.store->keep_first);
}

/// The machine goes on where it was, and so does the station.
void Station::resume_set_up() {
  if (file_.setups.empty()) return;
  const int number = store_->selected_setup();
  if (!file_.resume || number == 0 || number == control_->selected()) return;
  const CommandAnswer answer = change_to(number);
  if (answer.taken) file_.link.setup = number;
  if (!file_.link.warn) return;
  file_.link.warn(answer.taken ? fmt::format("goes on with set-up {}, which was selected last", number)
                               : fmt::format("set-up {} was selected last: {}; starts with set-up {}", number,
                                             answer.reason, control_->selected()));
}

/// The oldest result that an earlier run did not deliver. One that was acknowledged only waits for its DONE;
/// one that is too old is given up.
std::optional<Report> Station::take_left_behind() {
  if (!store_) return std::nullopt;
  while (const auto left = store_->unsettled()) {
    if (stopped()) return std::nullopt;
    if (left->state == ResultState::acknowledged) {
      wait_done_of(left->number);
      continue;
    }
    // Such a machine asked for a picture before the restart; its next question asks for a new one.
    const bool nobody_waits = machine_ && file_.link.mode == LinkMode::ask;
    const auto& limit = file_.store->give_up;
    if (nobody_waits || (limit && left->age > *limit)) {
      const std::string why = nobody_waits ? std::string("it was asked for before a restart")
                                           : fmt::format("{:.0f} s old after a restart",
                                                         std::chrono::duration<double>(left->age).count());
      store_->settle(left->number, ResultState::given_up, why);
      ++given_up_;
      if (file_.link.warn) file_.link.warn(fmt::format("result {} is given up: {}", left->number, why));
      continue;
    }
    Report report = report_of_json(
        left->report, fmt::format("store {}: result {}", file_.store->results.folder, left->number));
    number_ = left->number;
    taken_ = std::chrono::steady_clock::now() - left->age;
    {
      const std::lock_guard lock(picture_mutex_);
      picture_ = {};
    }
    left_behind_ = true;
    return report;
  }
  return std::nullopt;
}

/// The arm may still be moving: no picture before it is done.
void Station::wait_done_of(uint64_t number) {
  Delivery delivery{.acknowledged = true};
  delivery.done = !link_ || file_.link.mode == LinkMode::ask || link_->wait_done(number);
  if (!delivery.done && stopped()) return;
  if (!delivery.done) ++unfinished_, delivery.why = "its DONE never came";
  settle(number, delivery);
}

void Station::settle(uint64_t number, const Delivery& delivery) {
  if (!store_) return;
  if (delivery.done)
    store_->settle(number, ResultState::done);
  else if (delivery.acknowledged)
    store_->settle(number, ResultState::acknowledged, delivery.why);
  else if (delivery.given_up)
    store_->settle(number, ResultState::given_up, delivery.why);
}

void Station::keep_picture(const Report& report) {
  if (!pictures_ || left_behind_ || (file_.store->pictures == KeptPictures::bad && !is_bad(report))) return;
  const std::string why = pictures_->keep(report.number, picture_, failure_kind(report));
  if (!why.empty() && !pictures_failing_ && file_.link.warn)
    file_.link.warn(
        fmt::format("{}; no raw picture is stored until there is space; the station goes on", why));
  pictures_failing_ = !why.empty();
}

}  // namespace heron
