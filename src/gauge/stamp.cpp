#include <fmt/format.h>

#include "base/hash.hpp"
#include "heron/gauge/gauge.hpp"

namespace heron {
namespace {

void take(Hash& hash, const SettingValue& value) {
  std::visit(
      [&](const auto& v) {
        using Value = std::decay_t<decltype(v)>;
        if constexpr (std::is_same_v<Value, std::string>) {
          hash.take(v);
        } else if constexpr (std::is_same_v<Value, std::vector<double>>) {
          for (const double d : v) hash.take(fmt::format("{}", d));
        } else if constexpr (std::is_same_v<Value, std::vector<std::string>>) {
          for (const std::string& s : v) hash.take(s);
        } else {
          hash.take(fmt::format("{}", v));
        }
      },
      value);
}

}  // namespace

TargetStamp stamp_of(const Target& target) {
  const TaughtPicture& taught = target.taught();
  Hash pixels, settings;
  pixels.take(static_cast<uint64_t>(taught.pixels.width())),
      pixels.take(static_cast<uint64_t>(taught.pixels.height()));
  for (int y = 0; y < taught.pixels.height(); ++y)
    for (int x = 0; x < taught.pixels.width(); ++x) {
      const bool counts = taught.mask(x, y) != 0;
      pixels.take(counts, 1);
      if (!counts) continue;
      pixels.take(taught.pixels(x, y), 1);
      if (taught.color.empty() || !target.info().looks_at_color) continue;  // a file keeps it for those alone
      const Rgb p = taught.color(x, y);
      pixels.take(p.r, 1), pixels.take(p.g, 1), pixels.take(p.b, 1);
    }
  settings.take(std::string(target.info().id));
  for (const NamedSetting& s : target.settings()) settings.take(s.name), take(settings, s.value);
  return {pixels.text(), settings.text(), taught.origin};
}

std::string difference(const TargetStamp& then, const TargetStamp& now) {
  std::string words;
  const auto add = [&](const char* what) { words += (words.empty() ? "" : " and ") + std::string(what); };
  if (!then.pixels.empty() && then.pixels != now.pixels) add("its pixels");
  if (distance(then.origin, now.origin) > 1e-6) add("its origin");
  if (!then.settings.empty() && then.settings != now.settings) add("its settings");
  return words;
}

}  // namespace heron
