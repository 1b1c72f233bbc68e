#include "resolve.hpp"

#include <fmt/format.h>

#include <asio.hpp>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "heron/base/error.hpp"

namespace heron {
namespace {

using asio::ip::tcp;

/// What a look-up found; it outlives whoever waited for it.
struct LookUp {
  std::mutex mutex;
  std::condition_variable changed;
  bool done = false;
  std::vector<tcp::endpoint> found;
  std::string why;
};

void look_up(const std::shared_ptr<LookUp>& result, const Address& address) {
  asio::io_context io;
  asio::error_code error;
  tcp::resolver resolver(io);
  const auto found = resolver.resolve(address.host, std::to_string(address.port), error);
  const std::lock_guard lock(result->mutex);
  for (const auto& entry : found) result->found.push_back(entry.endpoint());
  result->why = error ? error.message() : "no address belongs to it";
  result->done = true;
  result->changed.notify_all();
}

}  // namespace

std::vector<tcp::endpoint> resolve(const Address& address, LineSocket::Duration timeout, const Work* stop) {
  asio::error_code error;
  const auto number = asio::ip::make_address(address.host, error);
  if (!error) return {tcp::endpoint(number, address.port)};
  // The system's look-up of a name cannot be interrupted: it gets a thread of its own, which is left to
  // itself when it takes too long.
  const auto result = std::make_shared<LookUp>();
  std::thread(look_up, result, address).detach();
  const auto deadline = std::chrono::steady_clock::now() + timeout;
  std::unique_lock lock(result->mutex);
  while (!result->done && std::chrono::steady_clock::now() < deadline && !(stop && stop->stopped()))
    result->changed.wait_for(lock, std::chrono::milliseconds(50));
  if (result->done && !result->found.empty()) return result->found;
  throw Error(ErrorCode::no_connection,
              fmt::format("{}: the host's name is not known: {}", address.text(),
                          result->done ? result->why : "its look-up took too long"));
}

}  // namespace heron
