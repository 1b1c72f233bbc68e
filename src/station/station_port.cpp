// What links beside the machine's see of a station, and how they are woken.
#include "arrivals.hpp"
#include "control.hpp"
#include "heron/base/error.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/station/station.hpp"
#include "loaded_set_up.hpp"
#include "station_marks.hpp"

namespace heron {

class Station::Port : public StationPort {
 public:
  explicit Port(Station& station) : station_(station) {}
  std::string name() const override { return station_.file_.name; }
  std::string session() const override { return store().session(); }
  StationState state() const override { return station_.control_->state(); }
  uint64_t newest() const override { return store().newest(); }
  std::optional<SetUpName> setup() const override {
    if (station_.file_.setups.empty()) return std::nullopt;
    const SetUp& setup = station_.set_up()->settings();
    return SetUpName{setup.number, setup.name};
  }
  CommandAnswer command(const StationCommand& command) override {
    if (command.kind == StationCommand::select) return station_.select(command.setup);
    return station_.control_->command(command);
  }

  std::vector<NumberedReport> reports_after(uint64_t number, size_t limit) const override {
    std::vector<NumberedReport> reports;
    for (StoredResult& r : store().after(number, limit)) reports.push_back({r.number, std::move(r.report)});
    return reports;
  }
  std::optional<NumberedReport> report(uint64_t number) const override {
    auto stored = store().result(number);
    if (!stored) return std::nullopt;
    return NumberedReport{stored->number, std::move(stored->report)};
  }
  std::string picture_png() const override {
    Picture copy;
    std::shared_ptr<const LoadedSetUp> setup;
    {
      const std::lock_guard lock(station_.picture_mutex_);
      copy = station_.picture_, setup = station_.picture_setup_;
    }
    if (copy.width() == 0) return {};
    if (std::holds_alternative<Image<float>>(copy.pixels)) copy.pixels = setup->view(copy);
    return png_of(copy);
  }
  uint64_t position(const std::string& receiver) const override { return store().position(receiver); }
  void set_position(const std::string& receiver, uint64_t number) override {
    station_.store_->set_position(receiver, number);
  }

 private:
  const ResultStore& store() const { return *station_.store_; }
  Station& station_;
};

/// The threads of outlets may call until they have ended.
Station::~Station() {
  std::vector<std::unique_ptr<ReportOutlet>> outlets;
  {
    const std::lock_guard lock(outlets_mutex_);
    outlets.swap(outlets_);
  }
  outlets.clear();
}

StationPort& Station::port() {
  if (!store_) fail_argument("station: outlets take reports out of a store; the station has none open");
  if (!port_) {
    port_ = std::make_unique<Port>(*this);
    control_->on_change([this] { state_changed(); });
  }
  return *port_;
}

void Station::add_outlet(std::unique_ptr<ReportOutlet> outlet) {
  const std::lock_guard lock(outlets_mutex_);
  outlets_.push_back(std::move(outlet));
}

/// Of the state, or of the newest result.
void Station::state_changed() {
  const bool held = control_->state() == StationState::held;
  if (link_) link_->hold(held);
  if (machine_) machine_->hold(held);
  const std::lock_guard lock(outlets_mutex_);
  for (const auto& outlet : outlets_) outlet->wake();
}

}  // namespace heron
