#pragma once
#include <map>
#include <string>
#include <vector>

#include "feature.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/report/report.hpp"
#include "measuring_plane.hpp"
#include "placement.hpp"

namespace heron {

/// What one gauge measured, before limits.
struct Measured {
  Verdict state = Verdict::not_measured;  ///< good: it was measured
  std::string reason = {};
  std::string quantity = {}, unit = {};
  double value = 0;
  std::optional<double> sigma = {};
  std::vector<GaugeValue> values = {};
  std::vector<GaugeItem> items = {};
  std::vector<Contour> contours = {};
  std::vector<ScanProfile> profiles = {};
  std::shared_ptr<const Image<uint8_t>> crop = {};
  Point2 at = {};  ///< where it is drawn
  Feature feature = {};

  bool measured() const { return state == Verdict::good; }
  Measured& reads(std::string what, Uncertain read, std::string in) {
    state = Verdict::good, quantity = std::move(what), value = read.value, sigma = read.sigma,
    unit = std::move(in);
    return *this;
  }
  Measured& counts(std::string what, double number) {
    state = Verdict::good, quantity = std::move(what), value = number, sigma.reset(), unit.clear();
    return *this;
  }
  Measured& fails(Verdict why, std::string words) {
    state = why, reason = std::move(words);
    return *this;
  }
};

/// How well the place of a gauge is known: the standard uncertainty of its anchor's pose.
struct PlaceSigma {
  Point2 origin;  ///< of the anchor, picture coordinates
  double x = 0, y = 0, angle = 0;
  double along(Point2 at, Point2 direction) const {
    return std::hypot(direction.x * x, direction.y * y, cross(at - origin, direction) * angle);
  }
};

/// Where one gauge measures.
struct GaugeScene {
  const PreparedPicture& prepared;
  Placement placement;
  MeasuringPlane plane;
  PlaceSigma place_sigma;
  OutsidePicture outside = OutsidePicture::refuse;
  const HeightMap* heights = nullptr;
  Work* work = nullptr;
};

Measured measured(const EdgeGauge& gauge, const GaugeScene& scene);
Measured measured(const LineGauge& gauge, const GaugeScene& scene);
Measured measured(const CircleGauge& gauge, const GaugeScene& scene);
Measured measured(const WidthGauge& gauge, const GaugeScene& scene);
Measured measured(const RepeatsGauge& gauge, const GaugeScene& scene);
Measured measured(const ProfileGauge& gauge, const GaugeScene& scene);
Measured measured(const CropGauge& gauge, const GaugeScene& scene);
Measured measured(const FillGauge& gauge, const GaugeScene& scene, const Target* color);
Measured measured(const BlobsGauge& gauge, const GaugeScene& scene);
Measured measured(const DetailGauge& gauge, const GaugeScene& scene, const GaugeTarget& detail);
Measured measured(const BorderGauge& gauge, const GaugeScene& scene, const GaugeTarget& border);
Measured measured(const CountGauge& gauge, const GaugeScene& scene, const std::vector<Point2>& detections);

/// From the results of the gauges that they combine.
Measured measured(const DistanceGauge& gauge, const Measured& a, const Measured& b,
                  const MeasuringPlane& plane);
Measured measured(const AngleGauge& gauge, const Measured& a, const Measured& b);
Measured line_through(const Measured& a, const Measured& b, const MeasuringPlane& plane);
Measured measured(const ValueGauge& gauge, const Measured& of);

/// The band of a gauge in this picture; where it reaches out of the picture, the lanes of it that are inside
/// if the gauge measures these. Nothing where it is not measured; `result` then says why.
std::optional<Scan> band_in_picture(const std::vector<double>& drawn, const GaugeScene& scene,
                                    Measured& result);

/// The same of a ring, which must lie in the picture as a whole.
std::optional<Scan> ring_in_picture(const std::vector<double>& drawn, const GaugeScene& scene,
                                    Measured& result);

/// How the edges of a gauge are chosen, as the functions of edges take it.
EdgeSettings edge_settings(EdgeChange change, EdgeOrder order, double threshold);

/// The picture does not hold the shape.
inline constexpr const char* outside_words = "its shape lies outside the picture";
inline constexpr const char* partly_outside_words = "its shape reaches out of the picture";

}  // namespace heron
