#include "heron/link/register_map.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>
#include <map>
#include <optional>

#include "heron/base/error.hpp"

namespace heron {
namespace {

constexpr int last_register = 65535;

int copies_of(const MappedField& f, int max_parts) {
  return f.part > 0 && f.every > 0 ? std::max(1, max_parts - f.part + 1) : 1;
}

std::string name_of(const MappedField& f, int copy) {
  return f.part > 0 ? fmt::format("{} of part {}", f.of, f.part + copy) : f.of;
}

int bit_count(const RegisterMap& map) {
  int count = 0;
  for (const MappedField& f : map.fields) count += copies_of(f, map.max_parts);
  return count;
}

std::pair<double, double> limits_of(RegisterType type) {
  switch (type) {
    case RegisterType::int16:
      return {-32768, 32767};
    case RegisterType::uint16:
      return {0, 65535};
    case RegisterType::int32:
      return {-2147483648.0, 2147483647.0};
    case RegisterType::uint32:
      return {0, 4294967295.0};
    case RegisterType::float32:
      break;
  }
  return {-std::numeric_limits<float>::max(), std::numeric_limits<float>::max()};
}

std::optional<double> number_of(const FieldValue& value, const MappedField& f) {
  if (const auto* number = std::get_if<double>(&value)) return *number;
  if (const auto* text = std::get_if<std::string>(&value))
    for (const auto& [word, number] : f.words)
      if (word == *text) return number;
  return std::nullopt;
}

std::vector<uint16_t> words_of(double number, const MappedField& f) {
  const auto bits = f.type == RegisterType::float32
                        ? std::bit_cast<uint32_t>(static_cast<float>(number))
                        : static_cast<uint32_t>(static_cast<int64_t>(std::llround(number)));
  const auto low = static_cast<uint16_t>(bits & 0xffffu), high = static_cast<uint16_t>(bits >> 16u);
  if (register_count(f.type) == 1) return {low};
  return f.order == WordOrder::high_first ? std::vector{high, low} : std::vector{low, high};
}

}  // namespace

void RegisterMap::require_valid() const {
  if (max_parts < 1 || max_parts > 1000) fail_argument("max_parts must be 1 to 1000");
  if (fields.empty()) fail_argument("no register is mapped; say with [[link.register]] what stands where");
  std::map<int, std::string> taken;
  for (const MappedField& f : fields) {
    const std::string what = fmt::format("register {}: ", f.at);
    const auto& infos = f.part > 0 ? part_fields() : report_fields();
    const FieldInfo* info = field_info(infos, f.of);
    if (!info)
      fail_argument(fmt::format("{}a {} has no field '{}'; it has {}", what,
                                f.part > 0 ? "part" : "whole result", f.of, names_of(infos)));
    if (f.part < 0 || f.part > max_parts)
      fail_argument(fmt::format("{}part must be 1 to {}", what, max_parts));
    if (f.every != 0 && (f.part == 0 || f.every < register_count(f.type)))
      fail_argument(fmt::format("{}every is the registers from part to part, at least {}", what,
                                register_count(f.type)));
    if (!std::isfinite(f.zero) || !std::isfinite(f.scale) || f.scale == 0)
      fail_argument(what + "zero and scale must be finite, and scale not 0");
    if (!info->text && !f.words.empty())
      fail_argument(fmt::format("{}words are for a text, and '{}' is a number", what, f.of));
    if (info->text && f.words.empty())
      fail_argument(fmt::format(
          "{}'{}' is a text; give the numbers that stand for it, as words = {{ leaf = 1 }}", what, f.of));
    for (int copy = 0; copy < copies_of(f, max_parts); ++copy)
      for (int k = 0; k < register_count(f.type); ++k) {
        const int at = f.at + copy * f.every + k;
        if (at < first_free_register || at > last_register)
          fail_argument(fmt::format("{}'{}' reaches register {}; they go from {} to {}", what,
                                    name_of(f, copy), at, first_free_register, last_register));
        const auto [other, is_new] = taken.try_emplace(at, name_of(f, copy));
        if (!is_new)
          fail_argument(
              fmt::format("{}'{}' and '{}' share register {}", what, name_of(f, copy), other->second, at));
      }
  }
  if (!controller) return;
  for (int k = 0; k < valid_words(); ++k) {
    const int at = controller->valid_at + k;
    if (at < first_free_register || at > last_register)
      fail_argument(fmt::format("valid_at: {} bits reach register {}; they go from {} to {}",
                                bit_count(*this), at, first_free_register, last_register));
    if (taken.contains(at))
      fail_argument(fmt::format("valid_at: {} bits take register {}, which holds '{}'", bit_count(*this), at,
                                taken.at(at)));
  }
  constexpr int written_by_controller = 3;
  const int from = controller->station_at, end = from + size(), theirs = controller->controller_at;
  if (from < 0 || end - 1 > last_register || theirs < 0 || theirs + written_by_controller - 1 > last_register)
    fail_argument(
        fmt::format("station_at and controller_at: the registers {} to {} and {} to {} do not lie within "
                    "0 to {}",
                    from, end - 1, theirs, theirs + written_by_controller - 1, last_register));
  if (theirs < end && theirs + written_by_controller > from)
    fail_argument(fmt::format("controller_at: the registers {} to {} lie among the station's, {} to {}",
                              theirs, theirs + written_by_controller - 1, from, end - 1));
}

int RegisterMap::size() const {
  int last = first_free_register - 1;
  for (const MappedField& f : fields)
    last = std::max(last, f.at + (copies_of(f, max_parts) - 1) * f.every + register_count(f.type) - 1);
  if (controller) last = std::max(last, controller->valid_at + valid_words() - 1);
  return last + 1;
}

int RegisterMap::valid_words() const { return (bit_count(*this) + 15) / 16; }

std::vector<RegisterValue> registers_of(const RegisterMap& map, const SentReport& sent) {
  const size_t count = std::min(sent.parts.size(), static_cast<size_t>(map.max_parts));
  const SentReport kept{sent.report,
                        sent.age_ms,
                        {sent.parts.begin(), sent.parts.begin() + static_cast<std::ptrdiff_t>(count)}};
  std::vector<RegisterValue> values;
  for (const MappedField& f : map.fields)
    for (int copy = 0; copy < copies_of(f, map.max_parts); ++copy) {
      RegisterValue v{.at = f.at + copy * f.every,
                      .words = std::vector<uint16_t>(static_cast<size_t>(register_count(f.type)), 0),
                      .name = name_of(f, copy)};
      const size_t part = static_cast<size_t>(std::max(0, f.part - 1 + copy));
      const bool is_there = f.part == 0 || part < count;
      const auto number = is_there
                              ? number_of(f.part > 0 ? field_of(kept, part, f.of) : field_of(kept, f.of), f)
                              : std::nullopt;
      if (number) {
        double scaled = (*number - f.zero) * f.scale;
        if (f.type != RegisterType::float32) scaled = std::round(scaled);
        const auto [least, most] = limits_of(f.type);
        v.valid = scaled >= least && scaled <= most;  // false for what is no number
        if (v.valid)
          v.words = words_of(scaled, f);
        else
          v.refused = fmt::format("{} is {:g}, which does not fit {} ({:g} to {:g})", v.name, scaled,
                                  register_type_words[static_cast<size_t>(f.type)], least, most);
      }
      values.push_back(std::move(v));
    }
  return values;
}

std::vector<uint16_t> valid_bits(const std::vector<RegisterValue>& values) {
  std::vector<uint16_t> words((values.size() + 15) / 16);
  for (size_t i = 0; i < values.size(); ++i)
    if (values[i].valid) words[i / 16] |= static_cast<uint16_t>(1u << (i % 16));
  return words;
}

}  // namespace heron
