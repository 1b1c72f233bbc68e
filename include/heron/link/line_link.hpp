#pragma once
#include <memory>

#include "heron/link/line_format.hpp"
#include "heron/link/station_link.hpp"

namespace heron {

/// The station's end of a connection whose lines the receiver defines. It promises less than StationLink:
/// without numbers that the receiver keeps, a result that was sent again after a lost acknowledgement may
/// arrive twice, and one that nobody acknowledges counts as delivered once it was sent.
/// A receiver that connects anew takes the place of the one before. Used by one thread at a time. Every wait
/// ends within half a second of a stop.
class LineLink {
 public:
  /// Opens the port when it listens; nobody need be there yet. Of the settings, fields and token are not
  /// used. Throws Error{invalid_argument} for a format that is wrong, Error{no_connection} when the address
  /// is taken.
  LineLink(const LinkSettings& settings, const LineFormat& format, const Work* stop = nullptr);
  LineLink(LineLink&&) noexcept;
  LineLink& operator=(LineLink&&) noexcept;
  ~LineLink();

  /// Sends a result, and waits for its acknowledgement where the format has one; three times in all, each
  /// after a receiver was waited for within the timeout.
  [[nodiscard]] Delivery deliver(const SentReport& sent);

  /// Waits for the line that asks, from whoever connects; a receiver may connect for each question. Other
  /// lines are refused. False after a stop. Throws Error{no_connection} when nobody asks within `finish`.
  bool wait_asked();
  /// Sends a result to the receiver that asked. When it is gone nobody waits for this result any more: it is
  /// given up, and not kept for the next.
  [[nodiscard]] Delivery answer(const SentReport& sent);

  /// What `deliver` and `answer` send, byte by byte.
  std::string bytes_of(const SentReport& sent) const;
  Address address() const;
  bool open_to_all() const;
  LinkCounts counts() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
