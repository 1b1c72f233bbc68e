#pragma once
#include <vector>

#include "heron/link/line_socket.hpp"

// After a header of the standard library: by what that has defined, this one chooses how it takes memory, and
// all files must choose alike.
#include <asio/ip/tcp.hpp>

namespace heron {

/// Where an address is, one or more ends to try in turn. Throws Error{no_connection} when the host's name is
/// not known, or was not looked up within `timeout` or before `stop` was stopped.
std::vector<asio::ip::tcp::endpoint> resolve(const Address& address, LineSocket::Duration timeout,
                                             const Work* stop);

}  // namespace heron
