#pragma once
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "heron/image/image.hpp"
#include "heron/image/region.hpp"
#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"

namespace heron {

/// A further picture that a kind of target needs, by name: an empty background.
struct TaughtExtra {
  std::string name;
  Image<uint8_t> pixels;
};

/// What a target keeps of the picture that it was taught from; what its file holds beside the settings.
struct TaughtPicture {
  Image<uint8_t> pixels;  ///< grey levels
  Image<Rgb> color = {};  ///< of the same size, for kinds that look at color; else empty
  Image<uint8_t> mask;    ///< 255 where a pixel counts
  Point2 origin;          ///< the part's position, coordinates of `pixels`
  std::vector<TaughtExtra> extras = {};
};

/// What every kind of target holds: what it was taught from, and its settings. Copies share the picture.
template <class Kind, class KindSettings>
class TaughtKind {
 public:
  using Settings = KindSettings;

  const std::string& name() const { return settings_.name; }
  const TaughtPicture& taught() const { return *taught_; }
  const Settings& settings() const { return settings_; }

  /// The same with other limits, or another place, kept with it; nothing is learned again.
  Kind with(const FindOptions& options, const PartGeometry& geometry) const {
    Kind other = static_cast<const Kind&>(*this);
    TaughtKind& base = other;
    base.settings_.options = options, base.settings_.geometry = geometry;
    return other;
  }

 protected:
  TaughtKind(TaughtPicture taught, Settings settings)
      : taught_(std::make_shared<const TaughtPicture>(std::move(taught))), settings_(std::move(settings)) {}

  std::shared_ptr<const TaughtPicture> taught_;
  Settings settings_;
};

/// What is taught from: the same for every kind.
struct TeachingPicture {
  ImageView<const uint8_t> grey;
  ImageView<const Rgb> color = {};      ///< the same picture, where it has color
  Region region = {};                   ///< of the part
  ImageView<const uint8_t> valid = {};  ///< 255 where a pixel was measured; empty: everywhere
  std::vector<ImageView<const uint8_t>> backgrounds = {};  ///< without the part, same size as `grey`
  std::vector<Region> counter_samples = {};                ///< what must not be taken for it
};

/// What is known of a kind of target without one at hand.
struct KindInfo {
  const char* id;                    ///< "marker": in files and options
  const char* what;                  ///< one line for people
  std::vector<const char*> options;  ///< names of the limits that it honours; another one set is an error
  bool looks_at_color = false;       ///< where the picture has it
  bool backgrounds = false, counter_samples = false;  ///< which of the teaching picture's it can use
  bool region_of_positions = true;  ///< its search region is where positions may lie; else what is looked at
};

bool honours(const KindInfo& kind, std::string_view limit);

/// Throws Error{invalid_argument} when a region to teach from is empty or reaches outside its picture.
void require_inside(const Region& region, int width, int height);

/// Throws Error{invalid_argument} for an origin more than a million pixels off, or not finite.
void require_origin(Point2 origin);

/// The part of `from` under its region, `margin_px` wider on every side as far as the picture goes; what the
/// region leaves out is masked, and so is the margin. Throws as `require_inside` and `require_origin`.
TaughtPicture cut_out(const TeachingPicture& from, const std::optional<Point2>& origin, int margin_px = 0);

/// Throws Error{invalid_argument} when `from` holds what the kind cannot use, or lacks what it needs.
void require_usable(const TeachingPicture& from, const KindInfo& kind);

}  // namespace heron
