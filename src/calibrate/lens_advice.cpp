#include "lens_advice.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

namespace heron {
namespace {

constexpr int cells_across = 4, cells_down = 3;

std::string uncovered(const std::vector<MappedPoint>& points, int width, int height) {
  std::array<int, cells_across * cells_down> counts{};
  for (const MappedPoint& p : points) {
    const int i = std::clamp(static_cast<int>((p.pixel.x + 0.5) / width * cells_across), 0, cells_across - 1);
    const int j = std::clamp(static_cast<int>((p.pixel.y + 0.5) / height * cells_down), 0, cells_down - 1);
    ++counts[static_cast<size_t>(j * cells_across + i)];
  }
  static constexpr const char* across[] = {"left", "left of the middle", "right of the middle", "right"};
  static constexpr const char* down[] = {"top", "middle", "bottom"};
  std::vector<std::string> empty;
  for (int j = 0; j < cells_down; ++j)
    for (int i = 0; i < cells_across; ++i)
      if (counts[static_cast<size_t>(j * cells_across + i)] < 5)
        empty.push_back(fmt::format("{} {}", down[j], across[i]));
  return fmt::format("{}", fmt::join(empty, ", "));
}

}  // namespace

std::vector<std::string> views_missing(const LensCalibration& c, int width, int height) {
  std::vector<std::string> advice;
  if (const std::string empty = uncovered(c.points, width, height); !empty.empty())
    advice.push_back("no board reaches these parts of the picture: " + empty);
  int used = 0, about_x = 0, about_y = 0;
  double steepest = 0;
  for (const ViewFit& v : c.views) {
    if (!v.used) continue;
    ++used;
    steepest = std::max(steepest, v.tilt.degrees());
    const Eigen::Vector3d normal = v.camera_from_board.rotation * Eigen::Vector3d::UnitZ();
    about_x += std::abs(normal.y()) > 0.2, about_y += std::abs(normal.x()) > 0.2;
  }
  if (used < 8) advice.push_back(fmt::format("{} views are used; 8 to 15 make the sigmas small", used));
  if (steepest < 15)
    advice.push_back(fmt::format(
        "the board is tilted by {:.0f} degrees at most; 20 to 40 fix the focal length", steepest));
  else if (about_x < 2)
    advice.push_back("tilt the board towards the top or bottom of the picture in at least two views");
  else if (about_y < 2)
    advice.push_back("tilt the board towards the left or right of the picture in at least two views");
  return advice;
}

}  // namespace heron
