#pragma once
#include <string>

#include "heron/link/station_link.hpp"
#include "heron/report/field.hpp"

namespace heron {

/// A station's connection to a machine that speaks otherwise than the robot text protocol. Used by one thread
/// at a time; every wait ends within half a second of a stop.
class MachineLink {
 public:
  virtual ~MachineLink() = default;
  /// Sends a result and waits for its acknowledgement, where there is one.
  [[nodiscard]] virtual Delivery deliver(const SentReport& sent) = 0;
  /// Waits for the machine's question. False after a stop. Throws Error{no_connection} when nobody asks
  /// within `finish`.
  virtual bool wait_asked() = 0;
  /// Answers the machine that asked. When it is gone nobody waits for this result any more: it is given up,
  /// and not kept for the next.
  [[nodiscard]] virtual Delivery answer(const SentReport& sent) = 0;
  /// Says that no result comes until it is released, where the protocol has a word for it. From any thread.
  virtual void hold(bool held) { static_cast<void>(held); }
  /// Shows which set-up the next trigger gets, where the protocol has a place for it. From any thread.
  virtual void selected(int setup) { static_cast<void>(setup); }
  virtual Address address() const = 0;
  /// Whether it listens where other machines may connect, with nothing that keeps them out.
  virtual bool open_to_all() const = 0;
  virtual LinkCounts counts() const = 0;
};

}  // namespace heron
