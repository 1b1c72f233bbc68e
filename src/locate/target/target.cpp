#include "heron/locate/target.hpp"

#include "heron/locate/teaching.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "heron/image/relief.hpp"
#include "locate/common/find_options.hpp"

namespace heron {
namespace {

template <class Kind>
std::vector<NamedSetting> named_settings(const typename Kind::Settings& settings) {
  std::vector<NamedSetting> named;
  for (const auto& row : Kind::rows())
    named.push_back({row.name, value_of(row, settings), row.help, row.learned});
  return named;
}

template <class Kind>
void apply(const std::map<std::string, SettingValue>& values, typename Kind::Settings& settings) {
  for (const auto& [name, value] : values) {
    const auto& rows = Kind::rows();
    const auto row = std::find_if(rows.begin(), rows.end(),
                                  [&, &wanted = name](const auto& r) { return r.name == wanted; });
    if (row == rows.end()) {
      std::vector<std::string> there;
      for (const auto& r : rows) there.emplace_back(r.name);
      fail_argument(fmt::format("a target of kind {} has no setting '{}'; it has: {}", Kind::info().id, name,
                                fmt::join(there, ", ")));
    }
    set_value(*row, settings, value);
  }
}

template <class Kind>
typename Kind::Settings settings_from(const TeachOptions& teaching) {
  typename Kind::Settings settings;
  settings.name = teaching.name;
  settings.origin = teaching.origin;
  if (teaching.options) settings.options = *teaching.options;
  settings.geometry = teaching.geometry;
  apply<Kind>(teaching.settings, settings);
  require_honoured(settings.options, Kind::info());
  return settings;
}

/// Calls `use(Kind*)` with a null pointer of the kind of that word; the one place that goes through the
/// table.
template <class Use, size_t index = 0>
auto with_kind(const std::string& word, Use use) {
  using Kind = std::variant_alternative_t<index, AnyKind>;
  if (word == Kind::info().id) return use(static_cast<Kind*>(nullptr));
  if constexpr (index + 1 < std::variant_size_v<AnyKind>) return with_kind<Use, index + 1>(word, use);
  std::vector<std::string> there;
  for (const KindInfo* kind : kinds()) there.emplace_back(kind->id);
  fail_argument(fmt::format("'{}' is no kind of target; there are: {}", word, fmt::join(there, ", ")));
}

template <size_t index = 0>
void gather(std::vector<const KindInfo*>& all) {
  all.push_back(&std::variant_alternative_t<index, AnyKind>::info());
  if constexpr (index + 1 < std::variant_size_v<AnyKind>) gather<index + 1>(all);
}

}  // namespace

const KindInfo& Target::info() const {
  return std::visit([](const auto& k) -> const KindInfo& { return std::decay_t<decltype(k)>::info(); },
                    kind_);
}
const std::string& Target::name() const {
  return std::visit([](const auto& k) -> const std::string& { return k.settings().name; }, kind_);
}
const TaughtPicture& Target::taught() const {
  return std::visit([](const auto& k) -> const TaughtPicture& { return k.taught(); }, kind_);
}
const FindOptions& Target::options() const {
  return std::visit([](const auto& k) -> const FindOptions& { return k.settings().options; }, kind_);
}
const PartGeometry& Target::geometry() const {
  return std::visit([](const auto& k) -> const PartGeometry& { return k.settings().geometry; }, kind_);
}
std::vector<NamedSetting> Target::settings() const {
  return std::visit([](const auto& k) { return named_settings<std::decay_t<decltype(k)>>(k.settings()); },
                    kind_);
}
std::vector<Measurement> Target::facts() const {
  return std::visit([](const auto& k) { return k.facts(); }, kind_);
}
std::vector<Contour> Target::contours() const {
  return std::visit([](const auto& k) { return k.contours(); }, kind_);
}
Box Target::extent() const {
  return std::visit([](const auto& k) { return k.extent(); }, kind_);
}
int Target::symmetry_order() const {
  return std::visit([](const auto& k) { return k.symmetry_order(); }, kind_);
}
double Target::grey_unit() const {
  const auto* pattern = as<PatternTarget>();
  return pattern ? pattern->grey_unit() : 1;
}

Target Target::with(const FindOptions& options) const {
  require_honoured(options, info());
  require_valid(options, grey_unit());
  return std::visit([&](const auto& k) -> Target { return k.with(options, k.settings().geometry); }, kind_);
}
Target Target::with(const PartGeometry& place) const {
  return std::visit([&](const auto& k) -> Target { return k.with(k.settings().options, place); }, kind_);
}
Target Target::with(const std::map<std::string, SettingValue>& values) const {
  return std::visit(
      [&]<class Kind>(const Kind& k) -> Target {
        auto settings = k.settings();
        apply<Kind>(values, settings);
        return Kind(TaughtPicture(k.taught()), std::move(settings));
      },
      kind_);
}

std::vector<const KindInfo*> kinds() {
  std::vector<const KindInfo*> all;
  gather(all);
  return all;
}

const KindInfo& kind_named(const std::string& word) {
  return *with_kind(word, []<class Kind>(Kind*) { return &Kind::info(); });
}

std::vector<NamedSetting> settings_of(const std::string& word) {
  return with_kind(word, []<class Kind>(Kind*) { return named_settings<Kind>({}); });
}

FindOptions find_options_of(const std::string& id) {
  return with_kind(id, []<class Kind>(Kind*) { return typename Kind::Settings{}.options; });
}

Target with_fitting_contrast(const PatternTarget& target) {
  FindOptions options = target.settings().options;
  options.min_contrast = suggested_contrast(target);
  const bool fits = options.min_contrast == target.settings().options.min_contrast;
  return fits ? Target(target) : Target(target).with(options);
}

Target teach_target(const std::string& word, const TeachingPicture& picture, const TeachOptions& teaching) {
  return with_kind(word, [&]<class Kind>(Kind*) -> Target {
    require_usable(picture, Kind::info());
    Kind taught = Kind::taught_from(picture, settings_from<Kind>(teaching));
    if constexpr (std::is_same_v<Kind, PatternTarget>)
      if (!teaching.options) return with_fitting_contrast(taught);
    return taught;
  });
}

Target target_from(const std::string& word, TaughtPicture taught, const TeachOptions& teaching) {
  return with_kind(word, [&]<class Kind>(Kind*) -> Target {
    return Kind(std::move(taught), settings_from<Kind>(teaching));
  });
}

FindResult find(const Target& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain, Work* work) {
  require_honoured(options, target.info());
  return std::visit([&](const auto& kind) { return find(kind, prepared, options, explain, work); },
                    target.kind());
}

FindResult find(const Target& target, const PreparedPicture& prepared) {
  return find(target, prepared, target.options());
}

PreparedPicture prepare(const Picture& picture, const Target& target) {
  require_square_pixels(picture);
  const auto* heights = std::get_if<Image<float>>(&picture.pixels);
  const auto* pattern = target.as<PatternTarget>();
  const double step = pattern ? pattern->settings().height_step_mm : 0;
  if ((heights != nullptr) != (step > 0))
    throw Error(ErrorCode::bad_file, ErrorPlace{picture.name},
                fmt::format("is {}, '{}' was taught from {}", heights ? "a height map" : "a picture",
                            target.name(), heights ? "a picture" : "a height map"));
  if (heights) return PreparedPicture(relief_of(*heights, step).pixels);
  const auto* color = std::get_if<Image<Rgb>>(&picture.pixels);
  const auto* by_color = target.as<ColorTarget>();
  if (!color && by_color && by_color->needs_color())
    throw Error(
        ErrorCode::bad_file, ErrorPlace{picture.name},
        fmt::format("is a grey picture; '{}' is a {} and needs color", target.name(), target.info().id));
  if (!color || !target.info().looks_at_color) return PreparedPicture(grey_levels(picture));
  return PreparedPicture(Image<Rgb>(*color));
}

void require_honoured(const FindOptions& options, const KindInfo& kind) {
  const FindOptions usual;
  const std::pair<const char*, bool> set[] = {{"angle", options.angle != usual.angle},
                                              {"scale", options.scale != usual.scale},
                                              {"min contrast", options.min_contrast != usual.min_contrast},
                                              {"min visible", options.min_visible != usual.min_visible},
                                              {"max outside", options.max_outside != usual.max_outside},
                                              {"inversion", options.inversion != usual.inversion},
                                              {"thoroughness", options.thoroughness != usual.thoroughness}};
  for (const auto& [name, is_set] : set) {
    if (is_set && !honours(kind, name))
      fail_argument(fmt::format("a target of kind {} has no limit '{}'; it has: {}", kind.id, name,
                                fmt::join(kind.options, ", ")));
  }
}

void require_valid(const FindOptions& options) { require_valid(options, 1); }

}  // namespace heron
