#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>

#include "heron/base/error.hpp"
#include "heron/calibrate/hand_eye.hpp"

namespace heron {
namespace {

constexpr double most = 0.75;  // least share of the stops that another reading must fit

using Rotations = std::vector<Eigen::Quaterniond>;

/// How far robot and camera differ in how much they turned between every two stops, degrees. That is the same
/// whatever the camera's mounting is, so it separates ways of reading without solving for it.
double turning_misfit(const Rotations& robot, const Rotations& camera) {
  double sum = 0, count = 0;
  for (size_t i = 0; i < robot.size(); ++i)
    for (size_t j = 0; j < i; ++j)
      sum += std::abs(robot[i].angularDistance(robot[j]) - camera[i].angularDistance(camera[j])), ++count;
  return count > 0 ? radians(sum / count).degrees() : 0;
}

Rotations camera_of(const std::vector<HandEyeSample>& stops) {
  Rotations r;
  for (const HandEyeSample& s : stops) r.push_back(s.camera_from_board.rotation);
  return r;
}

bool fits(const HandEyeCalibration& c) { return c.rms_angle < degrees(0.5) && c.rms_mm < 3; }
double misfit(const HandEyeCalibration& c) { return c.rms_mm + 5 * c.rms_angle.degrees(); }

/// The calibration, if it fits and keeps at least this share of the stops.
std::optional<HandEyeCalibration> solved(const std::vector<HandEyeSample>& stops, CameraMount mount,
                                         double min_share) {
  try {
    const HandEyeCalibration c = solve_hand_eye(stops, mount);
    const auto used = std::count_if(c.stops.begin(), c.stops.end(), [](const StopFit& s) { return s.used; });
    if (fits(c) && static_cast<double>(used) >= min_share * static_cast<double>(stops.size())) return c;
  } catch (const Error&) {
    // Read this way there is no motion that determines anything.
  }
  return std::nullopt;
}

/// How a table's numbers are taken for another form: under its names, or in their places.
enum class Taken { by_name, by_place };

/// The numbers of a row, taken for another form; by their places where the names differ.
std::vector<double> renamed(const std::vector<double>& numbers, RotationForm from, RotationForm to,
                            Taken taken) {
  if (taken == Taken::by_place) return numbers;
  const std::vector<std::string> had = columns_of(from), wanted = columns_of(to);
  std::vector<double> result;
  for (const std::string& name : wanted) {
    const auto at = std::find(had.begin(), had.end(), name);
    if (at == had.end()) return numbers;
    result.push_back(numbers[static_cast<size_t>(at - had.begin())]);
  }
  return result;
}

std::optional<std::vector<Pose3>> read_as(const std::vector<RobotPoseRow>& rows, RotationForm given,
                                          const RobotPoseReading& reading, Taken taken) {
  std::vector<Pose3> poses;
  for (const RobotPoseRow& row : rows) {
    const auto pose = pose_of({row.position, renamed(row.rotation, given, reading.form, taken)}, reading);
    if (!pose) return std::nullopt;
    poses.push_back(*pose);
  }
  return poses;
}

const char* words_of(CameraMount mount) {
  return mount == CameraMount::arm ? "--mount arm" : "--mount fixed";
}

/// Another way of reading the rows, or another mount.
std::optional<std::string> another_reading(const std::vector<RobotPoseRow>& rows,
                                           const std::vector<HandEyeSample>& stops,
                                           const RobotPoseReading& given, CameraMount mount) {
  const Rotations camera = camera_of(stops);
  constexpr double far_off = 1;  // degrees
  std::optional<std::string> best;
  double least = 1e9;
  struct Way {
    RotationForm form;
    bool in_degrees;
    Taken taken;
  };
  std::vector<Way> ways;
  for (const RotationForm form : all_rotation_forms())
    for (const bool in_degrees : {true, false})
      for (const Taken taken : {Taken::by_name, Taken::by_place}) ways.push_back({form, in_degrees, taken});
  for (const auto& [form, in_degrees, taken] : ways) {
    if (numbers_in(form) != numbers_in(given.form) || (numbers_in(form) == 4 && !in_degrees)) continue;
    const auto plain = read_as(rows, given.form, {form, in_degrees}, taken);
    if (!plain) continue;
    Rotations robot;
    for (const Pose3& p : *plain) robot.push_back(p.rotation);
    if (turning_misfit(robot, camera) > far_off) continue;
    for (const double unit : {1.0, 1000.0, 25.4})
      for (const bool inverted : {false, true})
        for (const CameraMount m : {CameraMount::arm, CameraMount::fixed}) {
          const RobotPoseReading reading{form, in_degrees, unit, inverted};
          const auto poses = read_as(rows, given.form, reading, taken);
          std::vector<HandEyeSample> read = stops;
          for (size_t i = 0; i < read.size(); ++i) read[i].base_from_flange = (*poses)[i];
          const auto c = solved(read, m, most);
          if (!c || misfit(*c) >= least) continue;
          // An inverted pose on the other mount describes the same motion: the first reading wins unless
          // another one fits clearly better.
          least = 0.9 * misfit(*c);
          best = heron::words_of(reading);
          if (m != mount) *best = fmt::format("{}, with {}", *best, words_of(m));
        }
  }
  return best;
}

/// Two rows that stand in each other's place.
std::optional<std::string> swapped_rows(const std::vector<HandEyeSample>& stops, CameraMount mount) {
  const Rotations camera = camera_of(stops);
  Rotations robot;
  for (const HandEyeSample& s : stops) robot.push_back(s.base_from_flange.rotation);
  struct Swap {
    size_t i, j;
    double off;
  };
  std::vector<Swap> swaps;
  for (size_t i = 0; i < stops.size(); ++i)
    for (size_t j = 0; j < i; ++j) {
      std::swap(robot[i], robot[j]);
      swaps.push_back({j, i, turning_misfit(robot, camera)});
      std::swap(robot[i], robot[j]);
    }
  std::stable_sort(swaps.begin(), swaps.end(), [](const Swap& a, const Swap& b) { return a.off < b.off; });
  for (size_t k = 0; k < std::min<size_t>(3, swaps.size()); ++k) {
    std::vector<HandEyeSample> read = stops;
    std::swap(read[swaps[k].i].base_from_flange, read[swaps[k].j].base_from_flange);
    if (solved(read, mount, 1))
      return fmt::format("rows {} and {} swapped ({} and {})", swaps[k].i + 1, swaps[k].j + 1,
                         stops[swaps[k].i].name, stops[swaps[k].j].name);
  }
  return std::nullopt;
}

/// Pictures in which a board that looks the same after half a turn was read the wrong way round.
std::optional<std::string> upside_down(const std::vector<HandEyeSample>& stops, CameraMount mount,
                                       Point2 board_middle) {
  const Eigen::Vector3d middle(board_middle.x, board_middle.y, 0);
  const Eigen::Quaterniond half(0, 0, 0, 1);
  const Pose3 turn{half, middle - half * middle};
  std::vector<HandEyeSample> read = stops;
  std::vector<bool> flipped(stops.size(), false);
  Rotations robot;
  for (const HandEyeSample& s : stops) robot.push_back(s.base_from_flange.rotation);
  double now = turning_misfit(robot, camera_of(read));
  for (size_t round = 0; round < stops.size(); ++round) {
    size_t which = stops.size();
    double least = now;
    for (size_t i = 0; i < read.size(); ++i) {
      const Pose3 before = read[i].camera_from_board;
      read[i].camera_from_board = before * turn;
      if (const double off = turning_misfit(robot, camera_of(read)); off < least) least = off, which = i;
      read[i].camera_from_board = before;
    }
    if (which == stops.size()) break;
    read[which].camera_from_board = read[which].camera_from_board * turn;
    flipped[which] = !flipped[which], now = least;
  }
  if (std::none_of(flipped.begin(), flipped.end(), [](bool f) { return f; }) || !solved(read, mount, 1))
    return std::nullopt;
  std::vector<std::string> names;
  const bool rather = 2 * std::count(flipped.begin(), flipped.end(), true) > static_cast<long>(stops.size());
  for (size_t i = 0; i < stops.size(); ++i)
    if (flipped[i] != rather) names.push_back(stops[i].name);
  return fmt::format(
      "the board read upside down in {}: a board with a mark, or with an odd and an even number "
      "of fields, cannot be",
      fmt::join(names, ", "));
}

}  // namespace

std::optional<std::string> explain_misfit(const std::vector<RobotPoseRow>& rows,
                                          const std::vector<HandEyeSample>& stops,
                                          const RobotPoseReading& given, CameraMount mount,
                                          Point2 board_middle) {
  if (rows.size() != stops.size() || rows.size() < 4) return std::nullopt;
  if (!solved(stops, mount, most))
    if (auto words = another_reading(rows, stops, given, mount)) return words;
  if (auto words = swapped_rows(stops, mount)) return words;
  return upside_down(stops, mount, board_middle);
}

}  // namespace heron
