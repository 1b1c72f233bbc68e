#pragma once
#include <chrono>
#include <memory>

#include "heron/link/outlet.hpp"
#include "heron/link/outlet_settings.hpp"

namespace heron {

/// Publishes a station's reports to an MQTT broker (MQTT 3.1.1) and takes commands back; docs/outlets.md has
/// the topics. Each report is sent with QoS 1, in order, and counts when the broker acknowledged it; what the
/// broker did not get before a restart is sent after it. A broker that is gone is tried again with growing
/// pauses, to 30 s.
class MqttOutlet : public ReportOutlet {
 public:
  /// Connects in the background: a broker that is not there is no error. Throws Error{bad_file} for a
  /// password file or certificates that cannot be read, Error{invalid_argument} for a topic that cannot be.
  MqttOutlet(const MqttSettings& settings, StationPort& station);
  /// Says that the station has ended, and waits up to two seconds for what is on its way.
  ~MqttOutlet() override;

  void wake() override;
  OutletCounts counts() const override;
  std::string text() const override;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
