#pragma once
#include <chrono>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>

namespace heron {

/// "host:port". Throws Error{invalid_argument} when it is not of that form; port 0 lets the system choose
/// when listening.
struct Address {
  std::string host = "127.0.0.1";
  uint16_t port = 0;
  static Address parse(const std::string& text);
  std::string text() const;
};

/// One TCP connection that carries lines. Every wait has an end. Used by one thread at a time.
class LineSocket {
 public:
  using Duration = std::chrono::milliseconds;
  enum class Wait { line, timeout, closed };

  LineSocket(LineSocket&&) noexcept;
  LineSocket& operator=(LineSocket&&) noexcept;
  ~LineSocket();

  /// Throws Error{no_connection} when nobody listens there within `timeout`.
  static LineSocket connect(const Address& address, Duration timeout);

  /// Waits for the next whole line; `line` comes without its end (LF, with or without CR). A line longer than
  /// allowed closes the connection.
  Wait read(std::string& line, Duration timeout);
  /// Sends a line, or several with LF between them, as one message. False when the peer is gone or does not
  /// take it within `timeout`; the connection is then closed.
  bool write(const std::string& lines, Duration timeout = Duration(2000));
  bool is_open() const;
  void close();

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
  /// Nothing when no peer came within `timeout`.
  std::optional<LineSocket> accept(LineSocket::Duration timeout);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
