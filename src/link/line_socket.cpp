#include "heron/link/line_socket.hpp"

#include <fmt/format.h>

#include <asio.hpp>
#include <charconv>

#include "heron/base/error.hpp"
#include "heron/link/text_protocol.hpp"

namespace heron {
namespace {

using asio::ip::tcp;

/// Runs what was started until it ends or time is up; then it is cancelled and its handler still runs.
template <class Object>
bool run_for(asio::io_context& io, Object& object, LineSocket::Duration timeout) {
  io.restart();
  io.run_for(timeout);
  if (io.stopped()) return true;
  asio::error_code ignored;
  object.cancel(ignored);
  io.run();
  return false;
}

tcp::endpoint endpoint_of(asio::io_context& io, const Address& address) {
  asio::error_code error;
  tcp::resolver resolver(io);
  const auto found = resolver.resolve(tcp::v4(), address.host, std::to_string(address.port), error);
  if (error || found.empty())
    throw Error(ErrorCode::no_connection,
                fmt::format("{}: the host's name is not known: {}", address.text(), error.message()));
  return found.begin()->endpoint();
}

}  // namespace

Address Address::parse(const std::string& text) {
  const size_t colon = text.rfind(':');
  Address address;
  unsigned port = 0;
  if (colon != std::string::npos && colon > 0) {
    const char *begin = text.data() + colon + 1, *end = text.data() + text.size();
    const auto [stop, error] = std::from_chars(begin, end, port);
    if (error == std::errc() && stop == end && begin != end && port <= 65535) {
      address.host = text.substr(0, colon);
      address.port = static_cast<uint16_t>(port);
      return address;
    }
  }
  fail_argument(fmt::format("'{}' is no address; it is written host:port, for example 127.0.0.1:5017", text));
}

std::string Address::text() const { return fmt::format("{}:{}", host, port); }

struct LineSocket::State {
  asio::io_context io;
  tcp::socket socket{io};
  std::string buffer;  // read, not yet asked for
};

LineSocket::LineSocket(std::unique_ptr<State> state) : state_(std::move(state)) {}
LineSocket::LineSocket(LineSocket&&) noexcept = default;
LineSocket& LineSocket::operator=(LineSocket&&) noexcept = default;
LineSocket::~LineSocket() = default;

LineSocket LineSocket::connect(const Address& address, Duration timeout) {
  auto state = std::make_unique<State>();
  asio::error_code error = asio::error::timed_out;
  state->socket.async_connect(endpoint_of(state->io, address), [&](const asio::error_code& e) { error = e; });
  if (!run_for(state->io, state->socket, timeout)) error = asio::error::timed_out;
  if (error)
    throw Error(ErrorCode::no_connection,
                fmt::format("{}: nobody answers there: {}", address.text(), error.message()));
  asio::error_code ignored;
  state->socket.set_option(tcp::no_delay(true), ignored);
  return LineSocket(std::move(state));
}

LineSocket::Wait LineSocket::read(std::string& line, Duration timeout) {
  State& s = *state_;
  const auto deadline = std::chrono::steady_clock::now() + timeout;
  for (;;) {
    if (const size_t end = s.buffer.find('\n'); end != std::string::npos) {
      line = s.buffer.substr(0, end);
      s.buffer.erase(0, end + 1);
      if (!line.empty() && line.back() == '\r') line.pop_back();
      return Wait::line;
    }
    if (s.buffer.size() > text_protocol::longest_line + 1) close();
    if (!s.socket.is_open()) return Wait::closed;
    const auto left = std::chrono::duration_cast<Duration>(deadline - std::chrono::steady_clock::now());
    std::array<char, 1024> bytes{};
    asio::error_code error;
    size_t count = 0;
    s.socket.async_read_some(asio::buffer(bytes),
                             [&](const asio::error_code& e, size_t n) { error = e, count = n; });
    const bool ended = run_for(s.io, s.socket, std::max(left, Duration(1)));
    s.buffer.append(bytes.data(), count);
    if (count > 0) continue;
    if (!ended || error == asio::error::operation_aborted) return Wait::timeout;
    close();
  }
}

bool LineSocket::write(const std::string& lines, Duration timeout) {
  State& s = *state_;
  if (!s.socket.is_open()) return false;
  const std::string bytes = lines + "\n";
  asio::error_code error = asio::error::timed_out;
  asio::async_write(s.socket, asio::buffer(bytes), [&](const asio::error_code& e, size_t) { error = e; });
  if (!run_for(s.io, s.socket, timeout) || error) {
    close();
    return false;
  }
  return true;
}

bool LineSocket::is_open() const { return state_->socket.is_open(); }

void LineSocket::close() {
  asio::error_code ignored;
  state_->socket.close(ignored);
}

struct LineListener::State {
  asio::io_context io;
  tcp::acceptor acceptor{io};
  Address address;
};

LineListener::LineListener(const Address& address) : state_(std::make_unique<State>()) {
  State& s = *state_;
  const tcp::endpoint endpoint = endpoint_of(s.io, address);
  asio::error_code error;
  s.acceptor.open(endpoint.protocol(), error);
  if (!error) s.acceptor.set_option(tcp::acceptor::reuse_address(true), error);
  if (!error) s.acceptor.bind(endpoint, error);
  if (!error) s.acceptor.listen(4, error);
  if (error)
    throw Error(ErrorCode::no_connection,
                fmt::format("{}: cannot listen there: {}", address.text(), error.message()));
  s.address = {address.host, s.acceptor.local_endpoint().port()};
}
LineListener::LineListener(LineListener&&) noexcept = default;
LineListener::~LineListener() = default;

Address LineListener::address() const { return state_->address; }

std::optional<LineSocket> LineListener::accept(LineSocket::Duration timeout) {
  State& s = *state_;
  auto peer = std::make_unique<LineSocket::State>();
  asio::error_code error = asio::error::timed_out;
  s.acceptor.async_accept(peer->socket, [&](const asio::error_code& e) { error = e; });
  run_for(s.io, s.acceptor, timeout);
  if (error) return std::nullopt;
  asio::error_code ignored;
  peer->socket.set_option(tcp::no_delay(true), ignored);
  return LineSocket(std::move(peer));
}

}  // namespace heron
