// The set-ups of a station: their cameras, and how one is selected.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "arrivals.hpp"
#include "control.hpp"
#include "heron/base/error.hpp"
#include "heron/link/line_format.hpp"
#include "heron/station/station.hpp"
#include "loaded_set_up.hpp"
#include "recording_of.hpp"
#include "station_marks.hpp"

namespace heron {
namespace {

// After exposure or gain were changed, sensors deliver one or two pictures with the old ones.
constexpr int pictures_to_settle = 2;

std::string setups_text(const StationFile& file) {
  std::vector<std::string> texts;
  for (const SetUp& s : file.setups) texts.push_back(fmt::format("{} ({})", s.number, s.name));
  return fmt::format("{}", fmt::join(texts, ", "));
}

/// The given camera for the set-up that the station starts with.
Cameras with_camera(const StationFile& file, std::unique_ptr<Camera> camera) {
  Cameras cameras;
  if (!camera) return cameras;
  std::string address = file.setup.camera;
  for (const SetUp& s : file.setups)
    if (s.number == file.start) address = s.camera;
  cameras[address] = std::move(camera);
  return cameras;
}

/// What cannot change while a station runs.
void require_same_camera(const SetUp& before, const SetUp& now) {
  if (now.mount != before.mount)
    fail_argument("its mount was another one when the station started; start the station anew");
  if (now.camera != before.camera)
    fail_argument(
        fmt::format("its camera was {} when the station started and is {} now; start the station anew",
                    before.camera, now.camera));
  if (now.exposure_ms.has_value() != before.exposure_ms.has_value() ||
      now.gain.has_value() != before.gain.has_value())
    fail_argument(
        "it set exposure_ms or gain when the station started and does not now, or the other way "
        "round; start the station anew");
}

}  // namespace

Station::Station(StationFile file, std::unique_ptr<Camera> camera, Work* stop)
    : Station(file, with_camera(file, std::move(camera)), stop) {}

Station::Station(StationFile file, Cameras cameras, Work* stop)
    : file_(std::move(file)), cameras_(std::move(cameras)), stop_(stop) {
  for (const SetUp& s : file_.all_setups()) {
    if (!cameras_.contains(s.camera))
      cameras_[s.camera] = recording_of(s.camera), own_recordings_.insert(s.camera);
    setups_[s.number] = std::make_shared<LoadedSetUp>(s, settings_hash(file_, s));
    if (const CameraInfo info = cameras_[s.camera]->info(); info.width > 0 && !s.heights)
      setups_[s.number]->require_size(info.address, info.width, info.height);
  }
  require_readings();
  if (!setups_.contains(file_.start))
    fail_argument(
        file_.setups.empty()
            ? fmt::format("station: there is no set-up {}; {} has only one", file_.start, file_.name)
            : fmt::format("station: there is no set-up {}; there are {}", file_.start, setups_text(file_)));
  control_ = std::make_unique<StationControl>(file_.trigger, file_.start);
  if (file_.trigger.by == Trigger::arrival) {
    for (const auto& [number, setup] : setups_)
      if (setup->settings().mount == Mount::arm)
        fail_argument(
            "station: parts are followed from picture to picture to see which has arrived, and a camera on "
            "the arm moves; trigger by \"station\"");
    arrivals_ = std::make_unique<Arrivals>(file_.trigger.arrival);
  }
  current_ = setups_.at(file_.start);
  for (const auto& [number, setup] : setups_)  // a camera that cannot be set says so now
    set_camera(setup->settings());
  set_camera(current_->settings());
  file_.link.select = [this](int number) { return change_to(number); };
  file_.link.setup = file_.start;
}

/// A reading of a gauge that there is not would always be missing.
void Station::require_readings() const {
  std::vector<std::string> fields;
  if (file_.lines) fields = LineWriter(*file_.lines).fields();
  if (file_.registers)
    for (const MappedField& f : file_.registers->fields) fields.push_back(f.of);
  if (!file_.lines && !file_.registers)
    for (const text_protocol::Field f : file_.link.fields)
      fields.emplace_back(text_protocol::field_words[static_cast<size_t>(f)]);
  for (const std::string& field : fields) require_known(field);
  const std::string reading = "reading.";
  for (const std::string& field : fields) {
    if (!field.starts_with(reading)) continue;
    const std::string name = field.substr(reading.size());
    if (std::any_of(setups_.begin(), setups_.end(), [&](const auto& s) { return s.second->has_gauge(name); }))
      continue;
    const bool gauges = std::any_of(setups_.begin(), setups_.end(),
                                    [](const auto& s) { return !s.second->settings().gauges.empty(); });
    if (!gauges)
      fail_argument(fmt::format("station: the link sends '{}', and the station has no gauges", field));
    fail_argument(file_.setups.empty()
                      ? fmt::format("station: the link sends '{}', and {} has no gauge of that name", field,
                                    file_.setup.gauges)
                      : fmt::format("station: the link sends '{}', and no set-up has a gauge of "
                                    "that name",
                                    field));
  }
}

/// What no set-up knows would be missing in every result.
void Station::require_known(const std::string& field) const {
  const auto any = [&](auto knows) {
    return std::any_of(setups_.begin(), setups_.end(),
                       [&](const auto& s) { return knows(s.second->settings()); });
  };
  const auto require = [&](bool known, const char* needed) {
    if (!known) fail_argument(fmt::format("station: the link sends '{}', which needs {}", field, needed));
  };
  if (field.starts_with("place_"))
    require(any([](const SetUp& s) { return s.place.has_value(); }), "[place]");
  if (field.starts_with("velocity_") || field == "track")
    require(file_.trigger.by == Trigger::arrival, "[trigger] by = \"arrival\", which follows the parts");
  if (field == "approach_z")
    require(any([](const SetUp& s) { return s.gripper && s.gripper->approach_mm; }),
            "approach_mm in [gripper]");
  if (field == "retreat_z")
    require(any([](const SetUp& s) { return s.gripper && s.gripper->retreat_mm; }),
            "retreat_mm in [gripper]");
}

std::shared_ptr<const LoadedSetUp> Station::set_up() const { return set_up(control_->selected()); }

std::shared_ptr<const LoadedSetUp> Station::set_up(int number) const {
  const std::lock_guard lock(setups_mutex_);
  return setups_.at(number);
}

const SetUp& Station::used_set_up() const { return current_->settings(); }
int Station::selected() const { return control_->selected(); }
Camera& Station::camera() const { return *cameras_.at(current_->settings().camera); }

/// The camera of the set-up in use, with its exposure and gain.
Camera& Station::camera_set_up() {
  Camera& camera = this->camera();
  const SetUp& setup = current_->settings();
  std::shared_ptr<const LoadedSetUp>& set = set_at_[setup.camera];
  if (set == current_) return camera;
  const bool same =
      set && set->settings().exposure_ms == setup.exposure_ms && set->settings().gain == setup.gain;
  if (!same) set_camera(setup);
  const bool others_set_it = set || file_.setups.size() > 1;
  if (!same && others_set_it && (setup.exposure_ms || setup.gain) && camera.info().live)
    for (int i = 0; i < pictures_to_settle && !stopped(); ++i) camera.take();
  set = current_;
  return camera;
}

void Station::set_camera(const SetUp& setup) {
  Camera& camera = *cameras_.at(setup.camera);
  if (setup.exposure_ms) camera.set_exposure_ms(*setup.exposure_ms);
  if (setup.gain) camera.set_gain(*setup.gain);
}

/// Links call it, from when they are opened; what they show of it they know themselves.
CommandAnswer Station::change_to(int number) {
  if (file_.setups.empty()) return {false, "this station has only one set-up"};
  {
    const std::lock_guard lock(select_mutex_);  // one after the other, so that the last one counts
    std::shared_ptr<const LoadedSetUp> before;
    {
      const std::lock_guard setups_lock(setups_mutex_);
      const auto at = setups_.find(number);
      if (at == setups_.end())
        return {false, fmt::format("there is no set-up {}; there are {}", number, setups_text(file_))};
      before = at->second;
    }
    try {
      // What was taught, calibrated or edited since it was loaded counts.
      if (settings_hash(file_, before->settings()) != before->hash()) {
        SetUp now = file_.path.empty() ? before->settings() : load_set_up(file_.path, number);
        require_same_camera(before->settings(), now);
        std::string hash = settings_hash(file_, now);
        auto loaded = std::make_shared<LoadedSetUp>(std::move(now), std::move(hash));
        loaded->require_size_of(*before);
        const std::lock_guard setups_lock(setups_mutex_);
        setups_[number] = std::move(loaded);
      }
      if (store_) store_->set_selected_setup(number);
    } catch (const Error& error) {
      return {false, fmt::format("set-up {} cannot be used: {}", number, error.what())};
    }
    ++selections_;
    if (!control_->select(number)) return {false, "the station has ended"};
  }
  const std::lock_guard lock(outlets_mutex_);
  for (const auto& outlet : outlets_) outlet->wake();
  return {true};
}

CommandAnswer Station::select(int number) {
  CommandAnswer answer = change_to(number);
  if (answer.taken && machine_) machine_->selected(control_->selected());
  return answer;
}

Image<uint8_t> Station::view(const Picture& picture) const {
  const std::lock_guard lock(picture_mutex_);
  return (&picture == &picture_ && picture_setup_ ? *picture_setup_ : *set_up()).view(picture);
}

Report Station::examine(const Picture& picture, const RobotFromWorld& robot_from_world) {
  return examined(*set_up(), picture, robot_from_world);
}

}  // namespace heron
