#include "heron/render/scene.hpp"

#include "fill.hpp"
#include "geometry/linear.hpp"
#include "heron/image/smooth.hpp"

namespace heron::render {
namespace {

constexpr int fine = 2;              // cells of the fine grid along a pixel
constexpr double white_level = 230;  // grey levels of a reflectance of 1

Eigen::Vector3d world_of(Point2 p, const Piece& piece) {
  const Point2 w = piece.world_from_piece * (piece.upright ? Point2{p.x, 0} : p);
  return {w.x, w.y, piece.height_mm + (piece.upright ? p.y : 0)};
}

/// How far a point in camera coordinates lies inside of what the camera may see: in front of it by more than
/// a finger's breadth, and within 56 degrees of straight ahead, up to where lenses do not fold the picture.
double inside(const Eigen::Vector3d& p, int plane) {
  constexpr double nearest_mm = 15, widest = 1.5;
  switch (plane) {
    case 0:
      return p.z() - nearest_mm;
    case 1:
      return widest * p.z() - p.x();
    case 2:
      return widest * p.z() + p.x();
    case 3:
      return widest * p.z() - p.y();
    default:
      return widest * p.z() + p.y();
  }
}

/// What of a loop the camera may see (Sutherland, Hodgman, Reentrant polygon clipping, Comm. ACM 17, 1974):
/// what is behind it has no picture.
std::vector<Point2> in_front(std::vector<Point2> loop, const Piece& piece, const CameraModel& camera) {
  for (int plane = 0; plane < 5; ++plane) {
    std::vector<double> in;
    bool all = true;
    for (const Point2& p : loop) {
      in.push_back(inside(camera.camera_from_world * world_of(p, piece), plane));
      all = all && in.back() >= 0;
    }
    if (all) continue;
    std::vector<Point2> kept;
    for (size_t i = 0; i < loop.size(); ++i) {
      const size_t k = (i + 1) % loop.size();
      if (in[i] >= 0) kept.push_back(loop[i]);
      if ((in[i] >= 0) != (in[k] >= 0))
        kept.push_back(loop[i] + (loop[k] - loop[i]) * (in[i] / (in[i] - in[k])));
    }
    loop = std::move(kept);
  }
  return loop;
}

/// Straight edges bend under a lens with distortion: put points along them, closer than 8 pixels.
std::vector<Point2> projected(const std::vector<Point2>& whole, const Piece& piece,
                              const CameraModel& camera) {
  const auto pixel = [&](Point2 p) { return camera.project(world_of(p, piece)); };
  const std::vector<Point2> loop = in_front(whole, piece, camera);
  std::vector<Point2> result;
  for (size_t i = 0; i < loop.size(); ++i) {
    const Point2 a = loop[i], b = loop[(i + 1) % loop.size()];
    const int parts = std::clamp(static_cast<int>(std::ceil(distance(pixel(a), pixel(b)) / 8)), 1, 500);
    for (int k = 0; k < parts; ++k) {
      const Point2 p = pixel(a + (b - a) * (static_cast<double>(k) / parts));
      result.push_back({(p.x + 0.5) * fine, (p.y + 0.5) * fine});
    }
  }
  return result;
}

/// A smooth random pattern: lattice values 24 pixels apart, blended by a cubic; the lattice is turned so that
/// it does not run along the picture's rows.
void add_texture(Image<float>& canvas, double sigma, uint64_t seed) {
  const double cell = 24.0 * fine;
  constexpr double c = 0.8, s = 0.6;  // a turn of 37 degrees
  const double left = -s * canvas.height();
  const int columns = static_cast<int>((c * canvas.width() - left) / cell) + 2,
            rows = static_cast<int>((s * canvas.width() + c * canvas.height()) / cell) + 2;
  Random random(seed);
  std::vector<float> lattice(static_cast<size_t>(columns * rows));
  for (float& v : lattice) v = static_cast<float>(sigma * 1.6 * random.normal());
  const auto blend = [](double t) { return t * t * (3 - 2 * t); };
  for (int y = 0; y < canvas.height(); ++y) {
    for (int x = 0; x < canvas.width(); ++x) {
      const double across = (c * x - s * y - left) / cell, along = (s * x + c * y) / cell;
      const int i = static_cast<int>(across), j = static_cast<int>(along);
      const double u = blend(across - i), v = blend(along - j);
      const float* a = &lattice[static_cast<size_t>(j * columns + i)];
      const float* b = a + columns;
      canvas(x, y) +=
          static_cast<float>((1 - v) * ((1 - u) * a[0] + u * a[1]) + v * ((1 - u) * b[0] + u * b[1]));
    }
  }
}

Image<float> gather(const Image<float>& canvas) {
  Image<float> picture(canvas.width() / fine, canvas.height() / fine);
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) {
      float sum = 0;
      for (int v = 0; v < fine; ++v)
        for (int u = 0; u < fine; ++u) sum += canvas(x * fine + u, y * fine + v);
      picture(x, y) = sum / (fine * fine);
    }
  return picture;
}

/// Share of the light that shadows leave at a place.
double light_left(const std::vector<Shadow>& shadows, Point2 p) {
  double left = 1;
  for (const Shadow& s : shadows) {
    const double off = cross(unit(s.along), p - s.through_px), half = 0.5 * s.width_px;
    const auto within = [&](double d) { return 0.5 * std::erfc(-d / (s.soft_px * std::numbers::sqrt2)); };
    left *= 1 - s.depth * within(half - off) * within(half + off);
  }
  return left;
}

void light_up(Image<float>& picture, const Scene& scene) {
  const Light& light = scene.light;
  const double w = scene.width, h = scene.height;
  for (int y = 0; y < picture.height(); ++y)
    for (int x = 0; x < picture.width(); ++x) {
      const double u = (x + 0.5) / w - 0.5, v = (y + 0.5) / h - 0.5;
      const double even =
          (1 + light.gradient.x * u + light.gradient.y * v) * (1 - light.falloff * 2 * (u * u + v * v));
      double glare = 0;
      for (const Glare& g : scene.glares) {
        const Point2 d = Point2{static_cast<double>(x), static_cast<double>(y)} - g.centre_px;
        glare += g.strength * std::exp(-0.5 * dot(d, d) / (g.radius_px * g.radius_px));
      }
      const double lit = even * light_left(scene.shadows, {static_cast<double>(x), static_cast<double>(y)});
      picture(x, y) =
          static_cast<float>(white_level * scene.exposure * light.level * (picture(x, y) * lit + glare));
    }
}

}  // namespace

Image<float> exact_picture(const Scene& scene) {
  Image<float> canvas(scene.width * fine, scene.height * fine);
  for (int y = 0; y < canvas.height(); ++y)
    std::fill_n(canvas.row(y), canvas.width(), static_cast<float>(scene.background));
  if (scene.texture > 0) add_texture(canvas, scene.texture, scene.texture_seed);
  for (const Piece& piece : scene.pieces) {
    std::vector<std::vector<Point2>> loops;
    for (const auto& loop : piece.outline.loops) loops.push_back(projected(loop, piece, scene.camera));
    fill_exactly(canvas, loops, static_cast<float>(piece.reflectance));
  }
  if (scene.blur_px > 0) canvas = smooth(canvas.view(), scene.blur_px * fine);
  Image<float> picture = gather(canvas);
  light_up(picture, scene);
  return picture;
}

Image<uint8_t> expose(const ImageView<const float>& exact, const Noise& noise, Random& random) {
  Image<uint8_t> picture(exact.width(), exact.height());
  for (int y = 0; y < exact.height(); ++y)
    for (int x = 0; x < exact.width(); ++x) {
      const double grey = exact(x, y);
      const double shot = noise.electrons > 0 ? std::max(0.0, grey) * 255 / noise.electrons : 0;
      const double sigma = std::sqrt(noise.sigma * noise.sigma + shot);
      const double value = noise.gain * (grey + (sigma > 0 ? sigma * random.normal() : 0));
      picture(x, y) = static_cast<uint8_t>(std::clamp(std::floor(value + 0.5), 0.0, 255.0));
    }
  return picture;
}

std::array<Image<float>, 3> exact_channels(const Scene& scene) {
  std::array<Image<float>, 3> channels;
  for (size_t c = 0; c < 3; ++c) {
    Scene one = scene;
    one.background *= scene.background_tint[c];
    one.light.level *= scene.light.tint[c];
    for (Piece& piece : one.pieces) piece.reflectance *= piece.tint[c];
    channels[c] = exact_picture(one);
  }
  return channels;
}

Image<Rgb> expose(const std::array<Image<float>, 3>& exact, const Noise& noise, Random& random) {
  const Image<uint8_t> r = expose(exact[0], noise, random), g = expose(exact[1], noise, random),
                       b = expose(exact[2], noise, random);
  Image<Rgb> picture(r.width(), r.height());
  for (int y = 0; y < r.height(); ++y)
    for (int x = 0; x < r.width(); ++x) picture(x, y) = {r(x, y), g(x, y), b(x, y)};
  return picture;
}

Eigen::MatrixXd cramer_rao_bound(const std::function<Image<float>(const Eigen::VectorXd&)>& exact,
                                 const Eigen::VectorXd& parameters, const Eigen::VectorXd& steps,
                                 double sigma, bool unknown_light) {
  const Image<float> centre = exact(parameters);
  const Eigen::Index own = parameters.size(), all = own + (unknown_light ? 2 : 0);
  std::vector<Image<float>> ahead, behind;
  for (Eigen::Index k = 0; k < own; ++k) {
    Eigen::VectorXd at = parameters;
    at[k] = parameters[k] + steps[k];
    ahead.push_back(exact(at));
    at[k] = parameters[k] - steps[k];
    behind.push_back(exact(at));
  }
  Eigen::MatrixXd information = Eigen::MatrixXd::Zero(all, all);
  Eigen::VectorXd derivative(all);
  for (int y = 0; y < centre.height(); ++y)
    for (int x = 0; x < centre.width(); ++x) {
      for (Eigen::Index k = 0; k < own; ++k) {
        const auto i = static_cast<size_t>(k);
        derivative[k] = (static_cast<double>(ahead[i](x, y)) - behind[i](x, y)) / (2 * steps[k]);
      }
      if (unknown_light) derivative[own] = centre(x, y), derivative[own + 1] = 1;
      information += derivative * derivative.transpose();
    }
  const Eigen::MatrixXd covariance = solve_symmetric(information, Eigen::MatrixXd::Identity(all, all));
  return covariance.topLeftCorner(own, own) * sigma * sigma;
}

}  // namespace heron::render
