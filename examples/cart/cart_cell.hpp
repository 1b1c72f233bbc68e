#pragma once
#include <string>

#include "cart_driver.hpp"
#include "heron/base/pose3.hpp"
#include "heron/geometry/board_shape.hpp"
#include "heron/station/station.hpp"

namespace heron {

/// The pictures that the cart's stations are set up from: a board before each of its cameras, and what is
/// taught.
struct CartCell {
  std::string folder;
  BoardShape board{.kind = BoardKind::checker, .columns = 9, .rows = 7, .pitch_mm = 22};
  int views = 8;  ///< of the board, by each camera; the first at a measured place
  Pose3 cart_from_floor_board, cart_from_door_board;  ///< those places
  Box stripe, bore;                  ///< what to teach, in teach-stripe.png and teach-bore.png
  std::vector<Point2> plate;         ///< in teach-plate.png, drawn by hand
  double bore_mm = 0, plate_mm = 0;  ///< real sizes: the bore's diameter, the plate's first side

  std::string path(const std::string& name) const { return folder + "/" + name; }
};

/// Writes into `folder`: floor-board-01.png and so on, door-board-01.png, teach-stripe.png, teach-plate.png,
/// teach-bore.png.
/// Throws Error{not_writable}.
CartCell write_cart_cell(const std::string& folder, uint64_t seed);

/// What an operator does once: calibrates both cameras, teaches stripe, plate and bore, and writes
/// floor.toml and door.toml with their mappings and targets, all into the cell's folder. The stations connect
/// to the cart at `floor` and `door`, and take their pictures from http://`pictures`/floor.png and door.png.
void prepare_cart_stations(const CartCell& cell, const Address& floor, const Address& door,
                           const Address& pictures);

/// One whole trip with both stations at work on their own threads, over loopback.
struct CartTrip {
  CartLog log;
  CartArrival arrival;
};
/// `reports` is called with each station's report and its picture, from that station's thread.
using CartReports = std::function<void(bool floor, const Report&, const Picture&)>;
CartTrip run_cart_trip(const CartCell& cell, Cart& cart, const CartDriving& driving = {},
                       const CartReports& reports = {}, const CartWatcher& watcher = {});

/// Gives the cart's pictures to whoever asks by HTTP: /floor.png and /door.png, until it is destroyed.
class CartPictures {
 public:
  /// Throws Error{no_connection} when the address is taken or not ours.
  CartPictures(Cart& cart, const Address& address);
  ~CartPictures();
  CartPictures(const CartPictures&) = delete;
  CartPictures& operator=(const CartPictures&) = delete;
  Address address() const;  ///< with the port that the system chose

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
