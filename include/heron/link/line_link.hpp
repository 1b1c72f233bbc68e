#pragma once
#include <memory>

#include "heron/link/line_format.hpp"
#include "heron/link/machine_link.hpp"

namespace heron {

/// The station's end of a connection whose lines the receiver defines. It promises less than StationLink:
/// without numbers that the receiver keeps, a result that was sent again after a lost acknowledgement may
/// arrive twice, and one that nobody acknowledges counts as delivered once it was sent.
/// A receiver that connects anew takes the place of the one before. Used by one thread at a time. Every wait
/// ends within half a second of a stop.
class LineLink : public MachineLink {
 public:
  /// Opens the port when it listens; nobody need be there yet. Of the settings, fields and token are not
  /// used. Throws Error{invalid_argument} for a format that is wrong, Error{no_connection} when the address
  /// is taken.
  LineLink(const LinkSettings& settings, const LineFormat& format, const Work* stop = nullptr);
  ~LineLink() override;

  /// Three times in all where the format has an acknowledgement, each after a receiver was waited for within
  /// the timeout.
  Delivery deliver(const SentReport& sent) override;
  /// From whoever connects; a receiver may connect for each question. Other lines are refused.
  bool wait_asked() override;
  Delivery answer(const SentReport& sent) override;

  /// What `deliver` and `answer` send, byte by byte.
  std::string bytes_of(const SentReport& sent) const;
  Address address() const override;
  bool open_to_all() const override;
  LinkCounts counts() const override;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
