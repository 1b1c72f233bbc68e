#pragma once
#include "heron/base/range.hpp"
#include "heron/render/random.hpp"
#include "heron/render/scene.hpp"

namespace heron::render {

/// The stack station of the tile studio: a profiler's height map of tiles, some stacked, on a table that is
/// not level.
struct StackStation {
  Image<float> map;          ///< millimetres, NaN in holes
  Image<uint8_t> intensity;  ///< the grey picture that a profiler takes with it: glaze by glaze
  Point2 pitch_mm{0.2, 0.25};
  Point2 slope;          ///< the table's, millimetres a millimetre along x and y
  double offset_mm = 0;  ///< the table's height at the map's middle
  double covered = 0;    ///< share of the table under tiles
};

struct StackFilling {
  int width = 640, height = 512;
  double tilt_degrees = 1.5;  ///< largest tilt of the table
  double covered = 0.4;       ///< tiles are added until so much of the table is covered, 0 to 0.8
  double holes = 0.1;         ///< share of places without a measurement
  double noise_mm = 0.02;
};

/// Everything follows from the seed.
StackStation make_stack_station(uint64_t seed, const StackFilling& filling = {});

}  // namespace heron::render
