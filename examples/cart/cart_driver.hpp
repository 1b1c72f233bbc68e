#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "cart.hpp"
#include "heron/link/line_socket.hpp"
#include "heron/link/text_protocol.hpp"
#include "heron/simulation/station_peer.hpp"

namespace heron {

/// A part that a station sent, in the cart's frame.
struct CartPart {
  std::string name;
  double x = 0, y = 0, angle = 0;
};

/// Asks a station in the text protocol, one whole result after the other.
class StationAsker {
 public:
  /// Waits for the station and answers its greeting. Throws Error{no_connection} when none comes within
  /// `timeout`.
  StationAsker(LineListener& listener, LineSocket::Duration timeout);
  /// Every part of the next result, in the cart's frame; nothing when the station says that no result
  /// follows. Throws Error{no_connection} when it is gone or silent for longer than the timeout.
  std::optional<std::vector<CartPart>> ask();

 private:
  text_protocol::StationLine answer();
  void say(const text_protocol::RobotLine& line);

  StationPeer station_;
  LineSocket::Duration timeout_;
};

/// How the cart drives.
struct CartDriving {
  double speed_mm_s = 320;      ///< along the stripe; 20 to 500
  double watch_from_mm = 1500;  ///< driven before the door is looked for
  double stop_mm = 600;         ///< from the pin's tip to the bore, where it stops before the kiln
  double dock_mm_s = 90;        ///< while docking
  double give_up_s = 120;       ///< of its own clock
};

enum class CartState { following, stopped, docked, lost };

/// What the cart went through.
struct CartLog {
  CartState end = CartState::following;
  std::string reason;  ///< when it is lost
  int floor_results = 0, door_results = 0;
  double stopped_before_mm = 0;  ///< where it stopped before the kiln, as the station told it
};

/// What happens after each step, for whoever looks on.
using CartWatcher = std::function<void(CartState)>;

/// Drives the cart on what two stations report, and on nothing else: the floor's station tells the stripe's
/// place and heading (a part "stripe"), the door's station the plate and the bore (parts "plate" and
/// "bore"), in the cart's frame. It follows the stripe, stops before the kiln, docks, and parks the cart. The
/// stations connect to it.
CartLog drive_cart(Cart& cart, LineListener& floor, LineListener& door, const CartDriving& driving = {},
                   const CartWatcher& watcher = {});

}  // namespace heron
