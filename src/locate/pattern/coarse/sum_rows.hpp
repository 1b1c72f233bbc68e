#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace heron {

/// A place whose sum reached the limit, and for which pose. There are many, so they are small.
struct PlacedHit {
  static constexpr int max_places = 0xffff, max_poses = 0xffffff;
  PlacedHit() = default;
  PlacedHit(int at_x, int at_y, int in_pose, int reached)
      : x(static_cast<uint16_t>(at_x)),
        y(static_cast<uint16_t>(at_y)),
        pose(static_cast<uint32_t>(in_pose) & 0xffffff),
        sum(static_cast<uint32_t>(reached) & 0xff) {}
  uint16_t x, y;
  uint32_t pose : 24, sum : 8;
};

/// What a sum must have reached after so many features to be followed any further.
struct SumCheck {
  int after = 0;
  uint8_t least = 0;
};
inline constexpr size_t sum_checks = 3;  // the last one stands after all features

/// What is added up: of each feature the map where it answers, from a place of its own. With `ends`, features
/// come in groups, the first up to ends[0], the next up to ends[1]; of each group counts what `ones` answer
/// all together or what `others` do, whichever is more. Checks must then lie at ends of groups.
struct SumFeatures {
  const uint8_t* const* ones;
  const uint8_t* const* others = nullptr;
  const int* ends = nullptr;
};

/// The places that are summed up, and what hits there are called.
struct SumPlaces {
  std::ptrdiff_t stride;  ///< of the maps, bytes a row
  int width, rows;
  int first_row = 0;  ///< number of the first row in a hit
  int pose = 0;       ///< of the hits
};

/// For every x < width, y < rows: the sum over all features at y * stride + x. Of every two places in two
/// rows the best that passes every check is appended to `hits` with its pose, its row counted from
/// `first_row`; all that are equally good are. The whole sum must fit a byte. Up to 64 bytes behind the last
/// place are read (and not used), so they must exist.
void sum_rows(const SumFeatures& features, const std::array<SumCheck, sum_checks>& checks,
              const SumPlaces& places, std::vector<PlacedHit>& hits);

/// The same without vector instructions, in another order; what `sum_rows` is compared with.
void sum_rows_plain(const SumFeatures& features, const std::array<SumCheck, sum_checks>& checks,
                    const SumPlaces& places, std::vector<PlacedHit>& hits);

}  // namespace heron
