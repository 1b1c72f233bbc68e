#pragma once
#include <memory>

#include "heron/link/outlet.hpp"
#include "heron/link/outlet_settings.hpp"

namespace heron {

/// Serves a station's reports, pictures and events over HTTP/1.1, and takes commands; docs/outlets.md has the
/// paths. Each reader of events goes on where it was, by the number of the last report that it has.
class HttpOutlet : public ReportOutlet {
 public:
  /// Throws Error{invalid_argument} when it is to listen beyond this machine without a certificate and a
  /// token, Error{bad_file} for a certificate and a key that do not belong together or cannot be read,
  /// Error{no_connection} when the address is taken or not ours.
  HttpOutlet(const HttpSettings& settings, StationPort& station);
  ~HttpOutlet() override;

  void wake() override;
  OutletCounts counts() const override;
  std::string text() const override;
  /// Where it listens, with the port that the system chose.
  Address address() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
