#pragma once
#include <memory>

#include "heron/link/machine_link.hpp"
#include "heron/link/register_map.hpp"

namespace heron {

/// A station as a Modbus TCP server (MODBUS Application Protocol 1.1b3): a logic controller reads results
/// from input registers, and asks and acknowledges through two holding registers. docs/modbus.md has the
/// registers and the handshake. A result is there as a whole or not at all, whatever the controller reads at
/// once, and stays until it is acknowledged. Serves from a thread of its own.
class ModbusLink : public MachineLink {
 public:
  /// Throws Error{invalid_argument} for a map that is not valid or a station that does not listen,
  /// Error{no_connection} when the address is taken or not ours.
  ModbusLink(const LinkSettings& settings, const RegisterMap& map, const Work* stop = nullptr);
  ~ModbusLink() override;

  Delivery deliver(const SentReport& sent) override;
  bool wait_asked() override;
  Delivery answer(const SentReport& sent) override;
  void hold(bool held) override;
  void selected(int setup) override;
  Address address() const override;
  bool open_to_all() const override;
  LinkCounts counts() const override;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

// Input registers of the handshake, written by the station.
inline constexpr int modbus_state = 0, modbus_result = 1, modbus_answered = 2, modbus_heartbeat = 3,
                     modbus_setup = 4, modbus_refused_setup = 5;
// Holding registers, written by the controller.
inline constexpr int modbus_ask = 0, modbus_acknowledged = 1, modbus_select = 2;
/// What the state register holds.
enum class ModbusState : uint16_t {
  ready = 0,    ///< no result waits
  working = 1,  ///< a picture is taken and looked at
  held = 3,     ///< a person adjusts something: no result comes until the state is another one
  result = 2,   ///< a result stands in the registers and waits for its acknowledgement
};

}  // namespace heron
