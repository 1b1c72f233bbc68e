#pragma once
#include <map>
#include <variant>

#include "heron/image/picture.hpp"
#include "heron/locate/border.hpp"
#include "heron/locate/color.hpp"
#include "heron/locate/edge.hpp"
#include "heron/locate/marker.hpp"
#include "heron/locate/outline.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/stripe.hpp"

namespace heron {

/// The table of kinds: a further one is its room and its name here.
using AnyKind = std::variant<PatternTarget, OutlineTarget, ColorTarget, MarkerTarget, EdgeTarget,
                             BorderTarget, StripeTarget>;

/// A setting with its name, for files and tables.
struct NamedSetting {
  std::string name;
  SettingValue value;
  std::string help;
  bool learned = false;  ///< written by teaching
};

/// A target of any kind: what files hold and stations find. Cheap to ask, as dear to copy as its pixels.
class Target {
 public:
  template <class Kind>
  requires std::is_constructible_v<AnyKind, Kind&&> &&
      (!std::is_same_v<std::decay_t<Kind>, Target>)Target(Kind&& kind)
      : kind_(std::forward<Kind>(kind)) {}

  const KindInfo& info() const;
  const std::string& name() const;
  const TaughtPicture& taught() const;
  const FindOptions& options() const;  ///< kept with it
  const PartGeometry& geometry() const;
  std::vector<NamedSetting> settings() const;  ///< of its kind
  std::vector<Measurement> facts() const;      ///< results of teaching, by name
  std::vector<Contour> contours() const;       ///< lines to draw over its pixels
  Box extent() const;                          ///< of the part about its origin
  int symmetry_order() const;  ///< how often it looks the same in a full turn; 0: it has no angle
  double grey_unit() const;    ///< what one grey level stands for

  /// The same part with other limits, or another place, kept with it.
  Target with(const FindOptions& options) const;
  Target with(const PartGeometry& place) const;
  /// The same with some settings of its kind changed. Throws Error{invalid_argument} for a name that its kind
  /// does not have, and says what it has.
  Target with(const std::map<std::string, SettingValue>& settings) const;

  /// The kind itself, or nothing when it is another.
  template <class Kind>
  const Kind* as() const {
    return std::get_if<Kind>(&kind_);
  }
  const AnyKind& kind() const { return kind_; }

 private:
  AnyKind kind_;
};

/// How a target is to be taught.
struct TeachOptions {
  std::string name;
  std::optional<Point2> origin = {};
  std::optional<FindOptions> options = {};  ///< its kind's own unless given
  PartGeometry geometry = {};
  std::map<std::string, SettingValue> settings = {};  ///< of its kind, by name
};

/// Every kind there is, in the order of the table.
std::vector<const KindInfo*> kinds();
/// The kind of that word. Throws Error{invalid_argument} that lists them all.
const KindInfo& kind_named(const std::string& word);
/// Settings of a kind with their defaults, and the limits that it is found with unless others are given.
std::vector<NamedSetting> settings_of(const std::string& kind);
FindOptions find_options_of(const std::string& kind);

/// The same pattern with the minimum contrast that suits its edges; docs of `suggested_contrast`.
Target with_fitting_contrast(const PatternTarget& target);

/// Teaches a target of a kind; a pattern without limits of its own with the minimum contrast that suits it.
/// Throws Error{invalid_argument} when there is nothing to hold on to, a setting is none of its kind, or the
/// picture lacks what the kind needs.
Target teach_target(const std::string& kind, const TeachingPicture& picture, const TeachOptions& options);

/// The target that a file holds: its content and settings.
Target target_from(const std::string& kind, TaughtPicture taught, const TeachOptions& options);

/// Finds a target of any kind in a picture: what docs of its kind say.
FindResult find(const Target& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);
/// The same with the limits that were kept with it.
FindResult find(const Target& target, const PreparedPicture& prepared);

/// A picture prepared for what the target looks at: grey levels, color, or the relief of a height map in the
/// target's step. Throws Error{bad_file} when the picture is of another sort than the target's.
PreparedPicture prepare(const Picture& picture, const Target& target);

/// Throws Error{invalid_argument} when a limit is set that the kind does not honour.
void require_honoured(const FindOptions& options, const KindInfo& kind);
/// Throws Error{invalid_argument} when a limit is out of its range, for pictures of light; `find` does so
/// too.
void require_valid(const FindOptions& options);

}  // namespace heron
