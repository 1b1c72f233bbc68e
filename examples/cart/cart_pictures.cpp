#include <fmt/format.h>

#include <thread>

#include "cart_cell.hpp"
#include "heron/base/error.hpp"
#include "heron/files/picture_file.hpp"

// Last: what it includes of the system defines words that Eigen uses.
#include <httplib.h>

namespace heron {

struct CartPictures::State {
  httplib::Server server;
  std::thread thread;
  Address address;
};

CartPictures::CartPictures(Cart& cart, const Address& address) : state_(std::make_unique<State>()) {
  State& s = *state_;
  const auto give = [&cart](Picture (Cart::*take)()) {
    return [&cart, take](const httplib::Request&, httplib::Response& response) {
      if (cart.parked()) return void(response.status = 410);  // gone
      response.set_content(png_of((cart.*take)()), "image/png");
    };
  };
  s.server.Get("/floor.png", give(&Cart::floor_picture));
  s.server.Get("/door.png", give(&Cart::door_picture));
  // Otherwise another server's port would be shared with it, in silence.
  s.server.set_socket_options([](socket_t socket) {
    const int yes = 1;
    setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
  });
  s.address = address;
  if (address.port == 0) {
    const int port = s.server.bind_to_any_port(address.host);
    if (port > 0) s.address.port = static_cast<uint16_t>(port);
  } else if (!s.server.bind_to_port(address.host, address.port)) {
    s.address.port = 0;
  }
  if (s.address.port == 0)
    throw Error(ErrorCode::no_connection,
                fmt::format("cart: {} is taken, or no address of this machine", address.text()));
  s.thread = std::thread([&s] { s.server.listen_after_bind(); });
  while (!s.server.is_running()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
}

CartPictures::~CartPictures() {
  state_->server.stop();
  state_->thread.join();
}

Address CartPictures::address() const { return state_->address; }

}  // namespace heron
