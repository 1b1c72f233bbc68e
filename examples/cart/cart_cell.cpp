#include "cart_cell.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <thread>

#include "heron/calibrate/lens.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/render/tray_station.hpp"

namespace heron {
namespace {

using render::CartEye;
using render::Random;

/// The board before a camera: the first as `camera_from_board` says, the others held by hand.
void photograph_board(const CartCell& cell, const CartEye& eye, const std::string& name, const Pose3& first,
                      double distance_mm, Random& random) {
  const Eigen::Vector3d middle((cell.board.columns - 1) * cell.board.pitch_mm / 2,
                               (cell.board.rows - 1) * cell.board.pitch_mm / 2, 0);
  for (int view = 0; view < cell.views; ++view) {
    render::Scene scene;
    scene.camera = {eye.lens, first};
    if (view > 0) {
      const double tilt = view == 1 ? 3 : random.uniform(12, 30);
      const CameraModel above =
          render::camera_above(distance_mm * random.uniform(0.95, 1.15), {}, degrees(tilt),
                               degrees(137.5 * view), degrees(random.uniform(-20, 20)));
      Pose3 pose = above.camera_from_world;
      pose.position += Eigen::Vector3d(random.uniform(-30, 30), random.uniform(-22, 22), 0);
      scene.camera.camera_from_world = pose * Pose3{Eigen::Quaterniond::Identity(), -middle};
    }
    scene.width = eye.width, scene.height = eye.height;
    scene.background = 0.3, scene.blur_px = 0.7;
    scene.pieces = render::board_pieces(cell.board, {});
    save_picture(cell.path(fmt::format("{}-board-{:02}.png", name, view + 1)),
                 render::expose(render::exact_picture(scene), {.sigma = 2}, random));
  }
}

/// The mapping into the cart's frame, from the pictures of the board.
MappingRecord calibrated(const CartCell& cell, const std::string& name, const Pose3& cart_from_board) {
  MappingRecord record;
  std::vector<BoardView> views;
  for (int view = 0; view < cell.views; ++view) {
    const std::string file = fmt::format("{}-board-{:02}.png", name, view + 1);
    const Image<uint8_t> picture = grey_levels(load_picture(cell.path(file)));
    record.width = picture.width(), record.height = picture.height();
    BoardSeen seen = find_board(picture, cell.board);
    if (!seen.found) throw Error(ErrorCode::not_determined, file + ": " + seen.reason);
    views.push_back({file, std::move(seen.points), seen.dot_radius_px, seen.whole || seen.marked});
    record.pictures.push_back(file);
  }
  const LensCalibration lens = calibrate_lens(views, cell.board, record.width, record.height);
  // The first board's place in the cart is measured, so its frame is exchanged for the cart's.
  CameraModel camera = lens.mapping.camera();
  camera.camera_from_world = camera.camera_from_world * cart_from_board.inverse();
  record.mapping = CameraMapping(camera, lens.mapping.covariance());
  record.made_from = "pose", record.world = "robot";
  record.rms_px = lens.rms_px, record.sigma_px = lens.sigma_px;
  record.board = cell.board;
  return record;
}

TeachingPicture teaching_from(const Picture& picture, const Image<uint8_t>& grey, const Region& region) {
  TeachingPicture from{.grey = grey, .region = region};
  if (const auto* color = std::get_if<Image<Rgb>>(&picture.pixels)) from.color = *color;
  return from;
}

void teach_into(const CartCell& cell, const std::string& kind, const std::string& picture_name,
                const Region& region, TeachOptions words) {
  const Picture picture = load_picture(cell.path(picture_name));
  const Image<uint8_t> grey = grey_levels(picture);
  const Target target = teach_target(kind, teaching_from(picture, grey, region), words);
  save_target(cell.path(words.name + ".png"), target);
}

std::string station_text(const std::string& name, const Address& pictures,
                         const std::vector<std::string>& targets, const Address& cart) {
  std::string text = fmt::format(
      "# A station on the kiln cart.\nversion = 1\nname = \"{0}\"\nquick = true\n\n[camera]\naddress = "
      "\"http://{1}/{0}.png\"\n\n"
      "[mapping]\nfile = \"{0}-mapping.toml\"\n\n[frame]  # the mapping is into the cart already\nmount = "
      "\"fixed\"\n"
      "robot_from_board = [0, 0, 0]\n",
      name, pictures.text());
  for (const std::string& target : targets) text += fmt::format("\n[[target]]\nfile = \"{}\"\n", target);
  return text + fmt::format(
                    "\n[link]\nprotocol = \"text\"\nconnect = \"{}\"\nmode = \"ask\"\ntimeout_s = 300  # "
                    "each station waits while the cart asks the other\n",
                    cart.text());
}

}  // namespace

CartCell write_cart_cell(const std::string& folder, uint64_t seed) {
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (error)
    throw Error(ErrorCode::not_writable, ErrorPlace{folder},
                fmt::format("cannot be made: {}", error.message()));
  CartCell cell;
  cell.folder = folder;
  render::CartCourse course = render::make_cart_course(seed);
  Random random(seed ^ 0xb0a2dULL);
  // One board lies on the floor below the floor's camera, the other stands before the door's.
  const auto place = [](const Eigen::Vector3d& x, const Eigen::Vector3d& y, const Eigen::Vector3d& at) {
    Eigen::Matrix3d axes;
    axes << x, y, x.cross(y);
    return Pose3{Eigen::Quaterniond(axes), at};
  };
  const double half_x = (cell.board.columns - 1) * cell.board.pitch_mm / 2,
               half_y = (cell.board.rows - 1) * cell.board.pitch_mm / 2;
  cell.cart_from_floor_board = place({0, -1, 0}, {1, 0, 0}, {275 - half_y, half_x, 0});
  cell.cart_from_door_board = place({0, -1, 0}, {0, 0, 1}, {480, half_x, 150 - half_y});
  photograph_board(cell, course.floor_eye, "floor",
                   course.floor_eye.camera_from_cart * cell.cart_from_floor_board, 400, random);
  photograph_board(cell, course.door_eye, "door",
                   course.door_eye.camera_from_cart * cell.cart_from_door_board, 360, random);

  // By hand before each of them: over the stripe, and square to the door.
  const auto shot = [&](const Image<uint8_t>& picture, const std::string& name) {
    save_picture(cell.path(name), picture);
  };
  const Pose2 over_stripe{0, 0, {}};
  Picture floor;
  floor.pixels =
      render::expose(render::exact_channels(render::floor_scene(course, over_stripe)), {.sigma = 2}, random);
  save_picture(cell.path("teach-stripe.png"), floor);
  cell.stripe = {100, 10, 120, 220};
  course.door_light = {}, course.door_noise = 2;
  const auto before_door = [&](double from_camera_mm) {
    const double camera_x = course.door_eye.camera_from_cart.inverse().position.x();
    return course.world_from_bore * Pose2{-from_camera_mm - camera_x, 0, {}};
  };
  const Pose2 far = before_door(400), near = before_door(270);
  shot(render::expose(render::exact_picture(render::door_scene(course, far)), {.sigma = 2}, random),
       "teach-plate.png");
  shot(render::expose(render::exact_picture(render::door_scene(course, near)), {.sigma = 2}, random),
       "teach-bore.png");
  const auto pixel = [&](const Pose2& cart, double along, double above) {
    const Point2 w = course.world_from_bore * Point2{0, -along};  // along: to the right as seen
    return render::camera_of(course.door_eye, cart).project({w.x, w.y, course.bore_height_mm + above});
  };
  const double w = course.plate_width_mm / 2, h = course.plate_height_mm / 2;
  for (const auto& [x, y] : {std::pair{-1, 1}, {1, 1}, {1, -1}, {-1, -1}})
    cell.plate.push_back(pixel(far, x * w, y * h) + Point2{random.uniform(-4, 4), random.uniform(-4, 4)});
  const Point2 bore = pixel(near, 0, 0);
  cell.bore = {bore.x - 60, bore.y - 60, 120, 120};
  cell.bore_mm = course.bore_diameter_mm, cell.plate_mm = course.plate_width_mm;
  return cell;
}

void prepare_cart_stations(const CartCell& cell, const Address& floor, const Address& door,
                           const Address& pictures) {
  save_mapping(cell.path("floor-mapping.toml"), calibrated(cell, "floor", cell.cart_from_floor_board));
  save_mapping(cell.path("door-mapping.toml"), calibrated(cell, "door", cell.cart_from_door_board));
  teach_into(cell, "stripe", "teach-stripe.png", Region::rectangle(cell.stripe), {.name = "stripe"});
  const FindOptions near_and_far{.angle = {degrees(-3), degrees(3)}, .scale = {0.38, 2.1}, .min_score = 60};
  teach_into(cell, "border", "teach-plate.png", Region::polygon(cell.plate),
             {.name = "plate",
              .options = near_and_far,
              .geometry = {.size_mm = cell.plate_mm},
              .settings = {{"position_tolerance", 110.0}, {"side_tolerance", 8.0}}});
  teach_into(cell, "marker", "teach-bore.png", Region::rectangle(cell.bore),
             {.name = "bore", .geometry = {.size_mm = cell.bore_mm}, .settings = {{"tolerance", 40.0}}});
  write_file(cell.path("floor.toml"), station_text("floor", pictures, {"stripe.png"}, floor));
  write_file(cell.path("door.toml"), station_text("door", pictures, {"plate.png", "bore.png"}, door));
}

namespace {

/// A station at work on a thread of its own.
class WorkingStation {
 public:
  WorkingStation(StationFile file, std::unique_ptr<Camera> camera, bool floor, const CartReports& reports)
      : station_(std::move(file), std::move(camera)),
        thread_([this, floor, &reports] { work(floor, reports); }) {}
  ~WorkingStation() {
    if (thread_.joinable()) thread_.join();
  }
  /// Waits until it has ended; why it did before the cart was parked, if so.
  std::string ended() {
    if (thread_.joinable()) thread_.join();
    return error_;
  }
  WorkingStation(const WorkingStation&) = delete;
  WorkingStation& operator=(const WorkingStation&) = delete;

 private:
  void work(bool floor, const CartReports& reports) {
    try {
      station_.open_link();
      while (const auto report = station_.step())
        if (reports) reports(floor, *report, station_.picture());
    } catch (const std::exception& error) {
      error_ = error.what();
    }
  }
  Station station_;
  std::string error_;
  std::thread thread_;
};

}  // namespace

CartTrip run_cart_trip(const CartCell& cell, Cart& cart, const CartDriving& driving,
                       const CartReports& reports, const CartWatcher& watcher) {
  LineListener floor({"127.0.0.1", 0}), door({"127.0.0.1", 0});
  StationFile floor_file = load_station(cell.path("floor.toml")),
              door_file = load_station(cell.path("door.toml"));
  floor_file.link.address = floor.address(), door_file.link.address = door.address();
  WorkingStation floor_station(std::move(floor_file), cart.floor_camera(), true, reports),
      door_station(std::move(door_file), cart.door_camera(), false, reports);
  CartTrip trip;
  try {
    trip.log = drive_cart(cart, floor, door, driving, watcher);
  } catch (const Error& error) {
    cart.park();
    throw Error(error.code(), fmt::format("{} (floor: {}; door: {})", error.what(), floor_station.ended(),
                                          door_station.ended()));
  }
  trip.arrival = cart.arrival();
  return trip;
}

}  // namespace heron
