#pragma once
#include <Eigen/Core>
#include <array>
#include <functional>
#include <vector>

#include "heron/geometry/camera_model.hpp"
#include "heron/image/image.hpp"
#include "heron/render/outline.hpp"
#include "heron/render/random.hpp"

namespace heron::render {

/// Factors for red, green and blue.
using Tint = std::array<double, 3>;
inline constexpr Tint white_tint{1, 1, 1};

/// One flat piece of one brightness, lying in the world. Later pieces cover earlier ones.
struct Piece {
  Outline outline;              ///< in the piece's own frame
  Pose2 world_from_piece = {};  ///< millimetres
  double reflectance = 0.5;     ///< 0 black to 1 white
  double height_mm = 0;         ///< of its face above the work plane; of its x axis when it is upright
  Tint tint = white_tint;       ///< its color: a factor on the reflectance for each channel
  bool upright = false;         ///< stands on its x axis, its y upwards, as a wall does
};

/// A soft bright spot that the lamp throws into the lens; added to the light that comes from the scene.
struct Glare {
  Point2 centre_px;
  double radius_px = 40;
  double strength = 0.5;  ///< reflectance it adds at its centre
};

/// A straight shadow across the picture, as a post throws it: it takes a share of the light.
struct Shadow {
  Point2 through_px;  ///< a point of its middle line
  Angle along = {};   ///< picture sense
  double width_px = 100;
  double depth = 0.5;  ///< share of the light that is gone in it
  double soft_px = 4;  ///< sigma of its border
};

struct Light {
  double level = 1;       ///< 1: a reflectance of 1 gives 230 grey levels at exposure 1
  Point2 gradient{0, 0};  ///< relative change from one side of the picture to the other
  double falloff = 0;     ///< relative loss at the picture's corner, growing with the square of the distance
  Tint tint = white_tint;
};

/// Everything that makes a picture, apart from its noise.
struct Scene {
  CameraModel camera;
  int width = 1280, height = 1024;
  double background = 0.25;  ///< reflectance of the tray
  Tint background_tint = white_tint;
  double texture = 0;  ///< standard deviation of a smooth pattern on the tray, as reflectance
  uint64_t texture_seed = 1;
  std::vector<Piece> pieces;
  std::vector<Glare> glares;
  std::vector<Shadow> shadows;
  Light light;
  double blur_px = 0.8;  ///< sigma of the lens' point spread
  double exposure = 1;   ///< a factor on the light that is gathered
};

/// How the sensor errs.
struct Noise {
  double sigma = 2;      ///< grey levels of read noise, the same everywhere
  double electrons = 0;  ///< electrons at grey level 255; 0 leaves out shot noise
  double gain = 1;       ///< a factor on signal and noise after the exposure
};

/// The picture without noise and rounding, in grey levels (not clipped). Outlines are projected point by
/// point, their area is filled exactly on a grid twice as fine as the pixels, smoothed by the lens and
/// gathered by square pixels. Cost: about 12 passes over the fine grid.
Image<float> exact_picture(const Scene& scene);

/// Red, green and blue of the scene, each as `exact_picture`.
std::array<Image<float>, 3> exact_channels(const Scene& scene);

/// Adds the sensor's noise and rounds to 8 bit, clipped to 0..255.
Image<uint8_t> expose(const ImageView<const float>& exact, const Noise& noise, Random& random);
Image<Rgb> expose(const std::array<Image<float>, 3>& exact, const Noise& noise, Random& random);

/// The Cramer-Rao bound: the covariance that no unbiased estimate of `parameters` can beat, from a picture
/// with independent noise of `sigma` grey levels. `exact` draws the picture for given parameters; derivatives
/// are central differences of `steps`. With `unknown_light`, gain and offset of the picture are unknown too.
Eigen::MatrixXd cramer_rao_bound(const std::function<Image<float>(const Eigen::VectorXd&)>& exact,
                                 const Eigen::VectorXd& parameters, const Eigen::VectorXd& steps,
                                 double sigma, bool unknown_light = true);

}  // namespace heron::render
