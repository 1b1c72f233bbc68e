#include "heron/link/line_socket.hpp"

#include <fmt/format.h>

#include <asio.hpp>
#include <charconv>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/link/text_protocol.hpp"
#include "resolve.hpp"

namespace heron {
namespace {

using asio::ip::tcp;
using Clock = std::chrono::steady_clock;
using Duration = LineSocket::Duration;

constexpr Duration look_pause{50};   // between two looks at the stop
constexpr Duration after_stop{300};  // for what is on its way when the stop comes

bool stopped(const Work* stop) { return stop && stop->stopped(); }

/// Rounded up: with the last millisecond cut off, a wait would end by looking at the clock over and over.
Duration until(Clock::time_point time) {
  return std::max(Duration(0), std::chrono::ceil<Duration>(time - Clock::now()));
}

/// Runs what was started until it ends, time is up or a stop is asked for; then it is cancelled and its
/// handler still runs.
template <class Object>
bool run_for(asio::io_context& io, Object& object, Duration timeout, const Work* stop) {
  const auto deadline = Clock::now() + timeout;
  io.restart();
  for (;;) {
    io.run_for(stop ? std::min(look_pause, until(deadline)) : until(deadline));
    if (io.stopped()) return true;
    if (Clock::now() >= deadline || stopped(stop)) break;
  }
  asio::error_code ignored;
  object.cancel(ignored);
  io.run();
  return false;
}

bool is_loopback(const asio::ip::address& address) {
  if (address.is_loopback()) return true;
  return address.is_v6() && address.to_v6().is_v4_mapped() &&
         asio::ip::make_address_v4(asio::ip::v4_mapped, address.to_v6()).is_loopback();
}

asio::ip::address plain(const asio::ip::address& address) {
  if (address.is_v6() && address.to_v6().is_v4_mapped())
    return asio::ip::make_address_v4(asio::ip::v4_mapped, address.to_v6());
  return address;
}

}  // namespace

Address Address::parse(const std::string& text) {
  const size_t colon = text.rfind(':');
  Address address;
  unsigned port = 0;
  if (colon != std::string::npos && colon > 0) {
    const char *begin = text.data() + colon + 1, *end = text.data() + text.size();
    const auto [stop, error] = std::from_chars(begin, end, port);
    std::string host = text.substr(0, colon);
    const bool bracketed = host.size() > 2 && host.front() == '[' && host.back() == ']';
    if (bracketed) host = host.substr(1, host.size() - 2);
    // Without brackets nobody knows where an IPv6 address ends and its port begins.
    const bool plain = bracketed || host.find_first_of(":[]") == std::string::npos;
    if (error == std::errc() && stop == end && begin != end && port <= 65535 && plain) {
      address.host = host;
      address.port = static_cast<uint16_t>(port);
      return address;
    }
  }
  fail_argument(fmt::format(
      "'{}' is no address; it is written host:port, for example 127.0.0.1:5017 or [::1]:5017", text));
}

std::string Address::text() const {
  return host.find(':') == std::string::npos ? fmt::format("{}:{}", host, port)
                                             : fmt::format("[{}]:{}", host, port);
}

struct LineSocket::State {
  asio::io_context io;
  tcp::socket socket{io};
  std::string buffer;  // read, not yet asked for
  const Work* stop = nullptr;
};

LineSocket::LineSocket(std::unique_ptr<State> state) : state_(std::move(state)) {}
LineSocket::LineSocket(LineSocket&&) noexcept = default;
LineSocket& LineSocket::operator=(LineSocket&&) noexcept = default;
LineSocket::~LineSocket() = default;

LineSocket LineSocket::connect(const Address& address, Duration timeout, const Work* stop) {
  const auto deadline = Clock::now() + timeout;
  auto state = std::make_unique<State>();
  state->stop = stop;
  const std::vector<tcp::endpoint> endpoints = resolve(address, timeout, stop);
  asio::error_code error = asio::error::timed_out;
  asio::async_connect(state->socket, endpoints,
                      [&](const asio::error_code& e, const tcp::endpoint&) { error = e; });
  if (!run_for(state->io, state->socket, until(deadline), stop)) error = asio::error::timed_out;
  if (error)
    throw Error(ErrorCode::no_connection,
                fmt::format("{}: nobody answers there: {}", address.text(), error.message()));
  asio::error_code ignored;
  state->socket.set_option(tcp::no_delay(true), ignored);
  return LineSocket(std::move(state));
}

LineSocket::Wait LineSocket::read(std::string& line, Duration timeout) {
  State& s = *state_;
  const auto deadline = Clock::now() + timeout;
  for (;;) {
    if (const size_t end = s.buffer.find('\n'); end != std::string::npos) {
      line = s.buffer.substr(0, end);
      s.buffer.erase(0, end + 1);
      if (!line.empty() && line.back() == '\r') line.pop_back();
      return Wait::line;
    }
    if (s.buffer.size() > text_protocol::longest_line + 1) close();
    if (!s.socket.is_open()) return Wait::closed;
    std::array<char, 1024> bytes{};
    asio::error_code error = asio::error::timed_out;
    size_t count = 0;
    s.socket.async_read_some(asio::buffer(bytes), [&](const asio::error_code& e, size_t n) {
      error = e;
      count = n;
    });
    run_for(s.io, s.socket, until(deadline), s.stop);
    s.buffer.append(bytes.data(), count);
    if (count > 0) continue;
    if (error == asio::error::operation_aborted || error == asio::error::timed_out) return Wait::timeout;
    close();
    return Wait::closed;
  }
}

bool LineSocket::write(const std::string& lines, Duration timeout) {
  State& s = *state_;
  if (!s.socket.is_open()) return false;
  const std::string bytes = lines + "\n";
  asio::error_code error = asio::error::timed_out;
  asio::async_write(s.socket, asio::buffer(bytes), [&](const asio::error_code& e, size_t) { error = e; });
  const Duration whole = stopped(s.stop) ? std::min(timeout, after_stop) : timeout;
  if (!run_for(s.io, s.socket, whole, nullptr) || error) {
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

std::string LineSocket::peer() const {
  asio::error_code error;
  const tcp::endpoint end = state_->socket.remote_endpoint(error);
  return error ? std::string() : plain(end.address()).to_string();
}

bool LineSocket::peer_is_local() const {
  asio::error_code error;
  const tcp::endpoint end = state_->socket.remote_endpoint(error);
  return !error && is_loopback(end.address());
}

struct LineListener::State {
  asio::io_context io;
  tcp::acceptor acceptor{io};
  Address address;
};

LineListener::LineListener(const Address& address) : state_(std::make_unique<State>()) {
  State& s = *state_;
  const tcp::endpoint endpoint = resolve(address, Duration(5000), nullptr).front();
  asio::error_code error;
  s.acceptor.open(endpoint.protocol(), error);
  if (!error) s.acceptor.set_option(tcp::acceptor::reuse_address(true), error);
  if (!error) s.acceptor.bind(endpoint, error);
  if (!error) s.acceptor.listen(16, error);
  if (error)
    throw Error(ErrorCode::no_connection,
                fmt::format("{}: cannot listen there: {}", address.text(), error.message()));
  s.address = {address.host, s.acceptor.local_endpoint().port()};
}
LineListener::LineListener(LineListener&&) noexcept = default;
LineListener::~LineListener() = default;

Address LineListener::address() const { return state_->address; }

bool LineListener::is_local() const {
  asio::error_code error;
  const tcp::endpoint end = state_->acceptor.local_endpoint(error);
  return !error && is_loopback(end.address());
}

std::optional<LineSocket> LineListener::accept(LineSocket::Duration timeout, const Work* stop) {
  State& s = *state_;
  auto peer = std::make_unique<LineSocket::State>();
  peer->stop = stop;
  asio::error_code error = asio::error::timed_out;
  s.acceptor.async_accept(peer->socket, [&](const asio::error_code& e) { error = e; });
  run_for(s.io, s.acceptor, timeout, stop);
  if (error) return std::nullopt;
  asio::error_code ignored;
  peer->socket.set_option(tcp::no_delay(true), ignored);
  return LineSocket(std::move(peer));
}

}  // namespace heron
