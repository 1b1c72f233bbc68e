#pragma once
#include <chrono>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>

#include "heron/base/work.hpp"

namespace heron {

/// "host:port", or "[host]:port" for an IPv6 address. Throws Error{invalid_argument} when it is not of that
/// form; port 0 lets the system choose when listening.
struct Address {
  std::string host = "127.0.0.1";
  uint16_t port = 0;
  static Address parse(const std::string& text);
  std::string text() const;
};

/// One TCP connection that carries lines. Every wait has an end, and ends early, within 50 ms, when `stop`
/// is stopped. Used by one thread at a time.
class LineSocket {
 public:
  using Duration = std::chrono::milliseconds;
  enum class Wait { line, timeout, closed };

  LineSocket(LineSocket&&) noexcept;
  LineSocket& operator=(LineSocket&&) noexcept;
  ~LineSocket();

  /// Throws Error{no_connection} when nobody listens there within `timeout`, which holds for the look-up of
  /// the host's name as well.
  static LineSocket connect(const Address& address, Duration timeout, const Work* stop = nullptr);

  /// Waits for the next whole line; `line` comes without its end (LF, with or without CR). A line longer than
  /// allowed closes the connection.
  Wait read(std::string& line, Duration timeout);
  /// Sends a line, or several with LF between them, as one message. False when the peer is gone or does not
  /// take it within `timeout`, at most 300 ms after a stop; the connection is then closed.
  bool write(const std::string& lines, Duration timeout = Duration(2000));
  bool is_open() const;
  void close();
  /// The other end's IP address, without its port; empty when it is gone.
  std::string peer() const;
  /// Whether it is this machine.
  bool peer_is_local() const;

 private:
  friend class LineListener;
  struct State;
  explicit LineSocket(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

/// Waits for peers on one address.
class LineListener {
 public:
  /// Throws Error{no_connection} when the address is taken or not ours.
  explicit LineListener(const Address& address);
  LineListener(LineListener&&) noexcept;
  ~LineListener();
  /// Where it listens, with the port the system chose.
  Address address() const;
  /// Whether only this machine can reach it.
  bool is_local() const;
  /// Nothing when no peer came within `timeout`, or before `stop` was stopped.
  std::optional<LineSocket> accept(LineSocket::Duration timeout, const Work* stop = nullptr);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
