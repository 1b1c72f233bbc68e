#include "heron/modbus_link/modbus_link.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/socket.h>

#include <algorithm>

#include "heron/base/error.hpp"
#include "modbus_state.hpp"

namespace heron {

using modbus_wire::counted_in_registers;
using Clock = modbus_wire::Clock;

ModbusLink::State::State(const LinkSettings& s, const RegisterMap& m, const Work* work)
    : settings(s), map(m), stop(work), trace(s.trace, s.warn), selector(s.select) {
  map.require_valid();
  if (settings.listens == map.controller.has_value())
    fail_argument(settings.listens
                      ? "link: a map with a controller's registers is for a station that connects"
                      : "link: a station that connects to a controller needs to know where its "
                        "registers are: RegisterMap::controller");
  registers.reset(modbus_mapping_new(0, map.size(), modbus_select + 1, map.size()));
  if (!registers) throw std::bad_alloc();
  set(modbus_setup, static_cast<uint16_t>(settings.setup));
  if (settings.listens) {
    listener = modbus_wire::listening(settings.address);
    context.reset(modbus_new_tcp(nullptr, 0));
    if (!context) throw std::bad_alloc();
    thread = std::jthread([this](const std::stop_token& over) { serve(over); });
  } else {
    known = false;
    thread = std::jthread([this](const std::stop_token& over) { poll(over); });
  }
}

void ModbusLink::State::beat(Clock::time_point& last) {
  if (Clock::now() - last < std::chrono::seconds(1)) return;
  last = Clock::now();
  const std::lock_guard lock(mutex);
  ++registers->tab_input_registers[modbus_heartbeat];
}

void ModbusLink::State::take_written(uint16_t ask, uint16_t acknowledged) {
  if (written(modbus_ask) != ask) trace.noted(fmt::format("asked {}", written(modbus_ask)));
  if (written(modbus_acknowledged) != acknowledged)
    trace.noted(fmt::format("acknowledged {}", written(modbus_acknowledged)));
  if (written(modbus_select) != selecting) {
    selecting = written(modbus_select);
    if (selecting != 0) selector.want(selecting);
    trace.noted(fmt::format("selects set-up {}", selecting));
  }
  changed.notify_all();
}

void ModbusLink::State::show_selections() {
  while (const auto done = selector.finished()) {
    const std::lock_guard lock(mutex);
    const auto setup = static_cast<uint16_t>(done->setup);
    if (done->answer.taken) set(modbus_setup, setup);
    set(modbus_refused_setup, done->answer.taken ? uint16_t{0} : setup);
    trace.noted(fmt::format("set-up {}: {}", setup, done->answer.taken ? "selected" : done->answer.reason));
    if (!done->answer.taken && settings.warn)
      settings.warn(fmt::format("the controller selected set-up {}: {}", setup, done->answer.reason));
    changed.notify_all();
  }
}

/// A result that stands there may still be acknowledged while the station is held.
void ModbusLink::State::show() {
  const bool holds = held && shown != ModbusState::result;
  set(modbus_state, static_cast<uint16_t>(holds ? ModbusState::held : shown));
}

void ModbusLink::State::put(const SentReport& sent) {
  const std::vector<RegisterValue> values = registers_of(map, sent);
  const std::vector<uint16_t> bits = valid_bits(values);
  if (map.controller)
    std::copy(bits.begin(), bits.end(), registers->tab_input_registers + map.controller->valid_at);
  for (const RegisterValue& v : values) {
    std::copy(v.words.begin(), v.words.end(), registers->tab_input_registers + v.at);
    registers->tab_input_bits[v.at] = v.valid ? 1 : 0;
    if (v.refused.empty()) continue;
    trace.noted(v.refused);
    if (!settings.warn || std::find(refused.begin(), refused.end(), v.name) != refused.end()) continue;
    refused.push_back(v.name);
    settings.warn(v.refused + "; its bit says that it is not valid");
  }
  set(modbus_result, counted_in_registers(sent.report.number));
  set(ModbusState::result);
  trace.noted(fmt::format("result {} stands", counted_in_registers(sent.report.number)));
}

ModbusLink::ModbusLink(const LinkSettings& settings, const RegisterMap& map, const Work* stop)
    : state_(std::make_unique<State>(settings, map, stop)) {}
ModbusLink::~ModbusLink() = default;

Delivery ModbusLink::deliver(const SentReport& sent) {
  State& s = *state_;
  Delivery delivery{.tries = 1};
  std::unique_lock lock(s.mutex);
  s.put(sent);
  const uint16_t number = counted_in_registers(sent.report.number);
  delivery.acknowledged = delivery.done = s.await(lock, Clock::now() + s.settings.finish,
                                                  [&] { return s.written(modbus_acknowledged) == number; });
  if (delivery.acknowledged)
    s.set(ModbusState::ready);
  else
    delivery.why = s.stopped()
                       ? fmt::format("link: stopped before result {} was acknowledged", sent.report.number)
                       : fmt::format(
                             "link: result {} was not acknowledged within {:.1f} s; the controller writes {} "
                             "to holding register {}{}",
                             sent.report.number, std::chrono::duration<double>(s.settings.finish).count(),
                             number, s.controllers_register(modbus_acknowledged), s.trouble_text());
  return delivery;
}

bool ModbusLink::wait_asked() {
  State& s = *state_;
  std::unique_lock lock(s.mutex);
  // What is asked after a selection is meant for the new set-up.
  const auto is_asked = [&] { return s.known && s.written(modbus_ask) != s.asked && !s.selector.busy(); };
  if (!s.await(lock, Clock::now() + s.settings.finish, is_asked)) {
    if (s.stopped()) return false;
    throw Error(
        ErrorCode::no_connection,
        fmt::format(
            "link: no controller asked for {:.1f} s; it writes another number to holding register {}{}",
            std::chrono::duration<double>(s.settings.finish).count(), s.controllers_register(modbus_ask),
            s.trouble_text()));
  }
  s.asked = s.written(modbus_ask);
  s.set(ModbusState::working);
  return true;
}

Delivery ModbusLink::answer(const SentReport& sent) {
  State& s = *state_;
  Delivery delivery{.tries = 1};
  std::unique_lock lock(s.mutex);
  s.put(sent);
  s.set(modbus_answered, s.asked);
  const uint16_t number = counted_in_registers(sent.report.number);
  const auto asks_anew = [&] { return s.written(modbus_ask) != s.asked; };
  s.await(lock, Clock::now() + s.settings.acknowledge,
          [&] { return s.written(modbus_acknowledged) == number || asks_anew(); });
  delivery.acknowledged = delivery.done = s.written(modbus_acknowledged) == number;
  if (!delivery.acknowledged) {
    s.set(modbus_result, 0);  // nobody waits for it any more, and nobody may take it for new
    delivery.given_up = true;
    delivery.why =
        fmt::format("link: result {} was not acknowledged by the controller that asked", sent.report.number);
  }
  s.set(ModbusState::ready);
  return delivery;
}

void ModbusLink::hold(bool held) {
  const std::lock_guard lock(state_->mutex);
  state_->held = held;
  state_->show();
}

void ModbusLink::selected(int setup) {
  const std::lock_guard lock(state_->mutex);
  state_->set(modbus_setup, static_cast<uint16_t>(setup));
}

Address ModbusLink::address() const {
  if (!state_->settings.listens) return state_->settings.address;
  sockaddr_in in{};
  socklen_t size = sizeof in;
  getsockname(state_->listener.fd(), reinterpret_cast<sockaddr*>(&in), &size);
  return {state_->settings.address.host, ntohs(in.sin_port)};
}
bool ModbusLink::open_to_all() const {
  return state_->settings.listens && state_->settings.allowed.empty() &&
         !state_->settings.address.host.starts_with("127.");
}
LinkCounts ModbusLink::counts() const {
  const std::lock_guard lock(state_->mutex);
  return state_->counts;
}

}  // namespace heron
