#include "heron/locate/target.hpp"

#include "heron/locate/teaching.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "heron/image/relief.hpp"
#include "locate/common/limits.hpp"

namespace heron {
namespace {

template <class Kind>
std::vector<NamedSetting> named_settings(const typename Kind::Settings& settings) {
  std::vector<NamedSetting> named;
  for (const auto& row : Kind::rows()) named.push_back({row.name, value_of(row, settings), row.help});
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
      fail_argument(fmt::format("a target of kind {} has no setting '{}'; it has: {}", Kind::info().word,
                                name, fmt::join(there, ", ")));
    }
    set_value(*row, settings, value);
  }
}

template <class Kind>
typename Kind::Settings settings_from(const TargetWords& words) {
  typename Kind::Settings settings;
  settings.name = words.name;
  settings.origin = words.origin;
  if (words.limits) settings.limits = *words.limits;
  settings.place = words.place;
  apply<Kind>(words.settings, settings);
  require_honoured(settings.limits, Kind::info());
  return settings;
}

/// Calls `use(Kind*)` with a null pointer of the kind of that word; the one place that goes through the
/// table.
template <class Use, size_t index = 0>
auto with_kind(const std::string& word, Use use) {
  using Kind = std::variant_alternative_t<index, AnyKind>;
  if (word == Kind::info().word) return use(static_cast<Kind*>(nullptr));
  if constexpr (index + 1 < std::variant_size_v<AnyKind>) return with_kind<Use, index + 1>(word, use);
  std::vector<std::string> there;
  for (const KindInfo* kind : kinds()) there.emplace_back(kind->word);
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
const FindLimits& Target::limits() const {
  return std::visit([](const auto& k) -> const FindLimits& { return k.settings().limits; }, kind_);
}
const PartPlace& Target::place() const {
  return std::visit([](const auto& k) -> const PartPlace& { return k.settings().place; }, kind_);
}
std::vector<NamedSetting> Target::settings() const {
  return std::visit([](const auto& k) { return named_settings<std::decay_t<decltype(k)>>(k.settings()); },
                    kind_);
}
std::vector<Figure> Target::facts() const {
  return std::visit([](const auto& k) { return k.facts(); }, kind_);
}
std::vector<Trace> Target::traces() const {
  return std::visit([](const auto& k) { return k.traces(); }, kind_);
}
Box Target::extent() const {
  return std::visit([](const auto& k) { return k.extent(); }, kind_);
}
int Target::turns() const {
  return std::visit([](const auto& k) { return k.turns(); }, kind_);
}
double Target::grey_unit() const {
  const auto* pattern = as<PatternTarget>();
  return pattern ? pattern->grey_unit() : 1;
}

Target Target::with(const FindLimits& limits) const {
  require_honoured(limits, info());
  require_valid(limits, grey_unit());
  return std::visit([&](const auto& k) -> Target { return k.with(limits, k.settings().place); }, kind_);
}
Target Target::with(const PartPlace& place) const {
  return std::visit([&](const auto& k) -> Target { return k.with(k.settings().limits, place); }, kind_);
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

FindLimits limits_of(const std::string& word) {
  return with_kind(word, []<class Kind>(Kind*) { return typename Kind::Settings{}.limits; });
}

Target with_fitting_contrast(const PatternTarget& target) {
  FindLimits limits = target.settings().limits;
  limits.least_contrast = suggested_contrast(target);
  const bool fits = limits.least_contrast == target.settings().limits.least_contrast;
  return fits ? Target(target) : Target(target).with(limits);
}

Target teach_target(const std::string& word, const TeachingPicture& picture, const TargetWords& words) {
  return with_kind(word, [&]<class Kind>(Kind*) -> Target {
    require_usable(picture, Kind::info());
    Kind taught = Kind::taught_from(picture, settings_from<Kind>(words));
    if constexpr (std::is_same_v<Kind, PatternTarget>)
      if (!words.limits) return with_fitting_contrast(taught);
    return taught;
  });
}

Target target_from(const std::string& word, TaughtPicture taught, const TargetWords& words) {
  return with_kind(
      word, [&]<class Kind>(Kind*) -> Target { return Kind(std::move(taught), settings_from<Kind>(words)); });
}

Findings find(const Target& target, const Survey& survey, const FindLimits& limits, Explain explain,
              Work* work) {
  require_honoured(limits, target.info());
  return std::visit([&](const auto& kind) { return find(kind, survey, limits, explain, work); },
                    target.kind());
}

Findings find(const Target& target, const Survey& survey) { return find(target, survey, target.limits()); }

Survey survey_of(const Target& target, const Picture& picture) {
  require_square_pixels(picture);
  const auto* heights = std::get_if<Image<float>>(&picture.pixels);
  const auto* pattern = target.as<PatternTarget>();
  const double step = pattern ? pattern->settings().height_step_mm : 0;
  if ((heights != nullptr) != (step > 0))
    throw Error(ErrorCode::bad_file, fmt::format("{}: is {}, '{}' was taught from {}", picture.name,
                                                 heights ? "a height map" : "a picture", target.name(),
                                                 heights ? "a picture" : "a height map"));
  if (heights) return Survey(relief_of(*heights, step).pixels);
  const auto* color = std::get_if<Image<Rgb>>(&picture.pixels);
  const auto* by_color = target.as<ColorTarget>();
  if (!color && by_color && by_color->needs_color())
    throw Error(ErrorCode::bad_file, fmt::format("{}: is a grey picture; '{}' is a {} and needs color",
                                                 picture.name, target.name(), target.info().word));
  if (!color || !target.info().looks_at_color) return Survey(grey_levels(picture));
  return Survey(Image<Rgb>(*color));
}

void require_honoured(const FindLimits& limits, const KindInfo& kind) {
  const FindLimits usual;
  const std::pair<const char*, bool> set[] = {
      {"angle", limits.angle != usual.angle},
      {"scale", limits.scale != usual.scale},
      {"least contrast", limits.least_contrast != usual.least_contrast},
      {"min visible", limits.min_visible != usual.min_visible},
      {"most outside", limits.most_outside != usual.most_outside},
      {"inversion", limits.inversion != usual.inversion},
      {"thoroughness", limits.thoroughness != usual.thoroughness}};
  for (const auto& [name, is_set] : set) {
    if (is_set && !honours(kind, name))
      fail_argument(fmt::format("a target of kind {} has no limit '{}'; it has: {}", kind.word, name,
                                fmt::join(kind.limits, ", ")));
  }
}

void require_valid(const FindLimits& limits) { require_valid(limits, 1); }

}  // namespace heron
