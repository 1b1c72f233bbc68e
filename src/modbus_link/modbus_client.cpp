#include <fmt/format.h>

#include <algorithm>
#include <cerrno>

#include "modbus_state.hpp"

namespace heron {
namespace {

using modbus_wire::Clock;

constexpr std::chrono::milliseconds look{10};             // between two looks at what the controller wrote
constexpr std::chrono::milliseconds longest_pause{2000};  // between two attempts to connect
constexpr uint32_t answer_s = 1;                          // that a controller has for its answer
constexpr int most_words = 120;                           // of one request; the protocol allows 123
constexpr int head = 6;                                   // registers of the handshake

}  // namespace

/// Keeps the controller's registers as they are here, and reads what it wrote.
void ModbusLink::State::poll(const std::stop_token& over) {
  std::vector<uint16_t> sent;  // as the controller has them; empty: not known
  auto last_beat = Clock::now();
  std::chrono::milliseconds wait{100};
  while (!over.stop_requested()) {
    show_selections();
    beat(last_beat);
    if (!context && !connect()) {
      const auto until = Clock::now() + wait;
      while (Clock::now() < until && !over.stop_requested()) std::this_thread::sleep_for(look);
      wait = std::min(2 * wait, longest_pause);
      continue;
    }
    wait = std::chrono::milliseconds(100);
    if (!exchange(sent)) {
      const std::lock_guard lock(mutex);
      trouble = modbus_strerror(errno);
      trace.noted(fmt::format("connection lost: {}", trouble));
      context.reset(), sent.clear();
      continue;
    }
    std::unique_lock lock(mutex);
    changed.wait_for(lock, look);
  }
}

bool ModbusLink::State::connect() {
  context.reset(
      modbus_new_tcp_pi(settings.address.host.c_str(), std::to_string(settings.address.port).c_str()));
  if (context) {
    modbus_set_response_timeout(context.get(), answer_s, 0);
    if (modbus_connect(context.get()) == 0 && first_read()) {
      const std::lock_guard lock(mutex);
      ++counts.connections, trouble.clear();
      trace.noted(fmt::format("connected to {}", settings.address.text()));
      return true;
    }
  }
  const std::lock_guard lock(mutex);
  const std::string why = modbus_strerror(errno);
  if (trouble != why && settings.warn)
    settings.warn(fmt::format("no controller at {}: {}; trying again", settings.address.text(), why));
  trouble = why;
  context.reset();
  return false;
}

/// What an earlier run left in the controller: a question that it answered is none any more, and where
/// numbers begin anew, an acknowledgement of then must not count for a result of now.
bool ModbusLink::State::first_read() {
  if (known) return true;
  uint16_t answered = 0;
  if (modbus_read_registers(context.get(), map.controller->station_at + modbus_answered, 1, &answered) != 1)
    return false;
  const bool numbers_go_on = !settings.session.empty();
  if (!numbers_go_on &&
      modbus_write_register(context.get(), map.controller->controller_at + modbus_acknowledged, 0) != 1)
    return false;
  const std::lock_guard lock(mutex);
  asked = answered, set(modbus_answered, answered);
  return true;
}

/// All registers of the station.
std::vector<uint16_t> ModbusLink::State::image() {
  const std::lock_guard lock(mutex);
  return {registers->tab_input_registers, registers->tab_input_registers + map.size()};
}

bool ModbusLink::State::write(const std::vector<uint16_t>& image, int from, int count) {
  for (int at = from; at < from + count; at += most_words) {
    const int words = std::min(most_words, from + count - at);
    if (modbus_write_registers(context.get(), map.controller->station_at + at, words, image.data() + at) !=
        words)
      return false;
  }
  return true;
}

/// The controller never sees a result's number beside another's fields: they go before it, and while they
/// change it is 0.
bool ModbusLink::State::exchange(std::vector<uint16_t>& sent) {
  std::array<uint16_t, 3> theirs{};
  if (modbus_read_registers(context.get(), map.controller->controller_at, 3, theirs.data()) != 3)
    return false;
  {
    const std::lock_guard lock(mutex);
    const uint16_t ask = written(modbus_ask), acknowledged = written(modbus_acknowledged);
    std::copy(theirs.begin(), theirs.end(), registers->tab_registers);
    const bool first = !known;
    known = true;
    if (first || written(modbus_ask) != ask || written(modbus_acknowledged) != acknowledged ||
        written(modbus_select) != selecting)
      take_written(ask, acknowledged);
  }
  const std::vector<uint16_t> now = image();
  const bool new_fields = sent.empty() || !std::equal(now.begin() + head, now.end(), sent.begin() + head);
  if (new_fields) {
    std::vector<uint16_t> none(now.begin(), now.begin() + head);
    none[modbus_result] = 0, none[modbus_state] = static_cast<uint16_t>(ModbusState::working);
    if (!write(none, 0, head) || !write(now, head, map.size() - head)) return false;
  }
  if ((new_fields || !std::equal(now.begin(), now.begin() + head, sent.begin())) && !write(now, 0, head))
    return false;
  sent = now;
  return true;
}

}  // namespace heron
