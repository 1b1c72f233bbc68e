#include "options.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <charconv>
#include <chrono>
#include <filesystem>
#include <optional>

namespace heron::tool {
namespace {

std::optional<double> number_of(std::string_view text) {
  if (text.starts_with("+")) text.remove_prefix(1);
  double value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (error != std::errc() || end != text.data() + text.size() || !std::isfinite(value)) return std::nullopt;
  return value;
}

}  // namespace

std::vector<double> parse_numbers(const std::string& text, size_t count, const char* option,
                                  const char* form) {
  std::vector<double> values;
  std::string_view left = text;
  for (bool more = true; more;) {
    const size_t comma = left.find(',');
    more = comma != std::string_view::npos;
    const auto value = number_of(left.substr(0, comma));
    if (!value) fail_argument(fmt::format("{} '{}': it is written {}", option, text, form));
    if (std::abs(*value) > largest_number)
      fail_argument(
          fmt::format("{} '{}': numbers are at most {:g} either side of 0", option, text, largest_number));
    values.push_back(*value);
    if (more) left.remove_prefix(comma + 1);
  }
  if (values.size() != count)
    fail_argument(fmt::format("{} '{}': {} numbers; it is written {}", option, text, values.size(), form));
  return values;
}

Box parse_box(const std::string& text, const char* option) {
  const auto v = parse_numbers(text, 4, option, "X,Y,WIDTH,HEIGHT in pixels, for example 100,80,200,150");
  if (v[2] <= 0 || v[3] <= 0)
    fail_argument(fmt::format("{} '{}': width and height must be above 0", option, text));
  return {v[0], v[1], v[2], v[3]};
}

Region parse_region(const std::string& text, const char* option) {
  const size_t colon = text.find(':');
  if (colon == std::string::npos) return Region::rectangle(parse_box(text, option));
  const std::string shape = text.substr(0, colon), rest = text.substr(colon + 1);
  const auto count = 1 + static_cast<size_t>(std::count(rest.begin(), rest.end(), ','));
  const auto numbers = [&](size_t least, size_t most, const char* form) {
    return parse_numbers(rest, std::clamp(count, least, most), option, form);
  };
  if (shape == "turned") {
    const auto v = numbers(5, 5, "turned:X,Y,WIDTH,HEIGHT,ANGLE about its centre X,Y");
    return Region::rectangle({v[0], v[1]}, v[2], v[3], degrees(v[4]));
  }
  if (shape == "ellipse") {
    const auto v = numbers(4, 5, "ellipse:X,Y,RADIUS,RADIUS or with its angle behind");
    return Region::ellipse({v[0], v[1]}, v[2], v[3], v.size() > 4 ? degrees(v[4]) : Angle{});
  }
  if (shape == "ring") {
    const auto v = numbers(4, 4, "ring:X,Y,INNER,OUTER radius");
    return Region::ring({v[0], v[1]}, v[2], v[3]);
  }
  if (shape == "polygon") {
    const auto v = parse_numbers(rest, std::max<size_t>(6, count + count % 2), option,
                                 "polygon:X,Y,X,Y,X,Y ... of three or more corners");
    std::vector<Point2> corners;
    for (size_t i = 0; i + 1 < v.size(); i += 2) corners.push_back({v[i], v[i + 1]});
    return Region::polygon(std::move(corners));
  }
  fail_argument(
      fmt::format("{} '{}': the shape must be turned, ellipse, ring or polygon, or X,Y,WIDTH,HEIGHT alone",
                  option, text));
}

Point2 parse_point(const std::string& text, const char* option) {
  const auto v = parse_numbers(text, 2, option, "two numbers, for example 640,512");
  return {v[0], v[1]};
}

double parse_length(const std::string& text, const char* option) {
  static constexpr std::pair<std::string_view, double> units[] = {
      {"mm", 1}, {"cm", 10}, {"in", 25.4}, {"m", 1000}};
  std::string_view number = text;
  double factor = 1;
  for (const auto& [unit, mm] : units)
    if (number.ends_with(unit)) {
      number.remove_suffix(unit.size());
      factor = mm;
      break;
    }
  const auto value = number_of(number);
  if (!value)
    fail_argument(fmt::format("{} '{}': a length is written 12.5mm, 0.75in, 3cm or 1.2m", option, text));
  return *value * factor;
}

Range<double> parse_range(const std::string& text, const char* option) {
  const size_t dots = text.find("..");
  const auto min = number_of(text.substr(0, dots));
  const auto max = dots == std::string::npos ? min : number_of(text.substr(dots + 2));
  if (!min || !max)
    fail_argument(
        fmt::format("{} '{}': it is written MIN..MAX, for example 0.8..1.2, or one number", option, text));
  const Range<double> range{*min, *max};
  require_ordered(range, option);
  return range;
}

Range<Angle> parse_angle_range(const std::string& text) {
  if (text == "any") return full_turn;
  const size_t dots = text.find("..");
  const auto first = number_of(text.substr(0, dots));
  const auto second = dots == std::string::npos ? first : number_of(text.substr(dots + 2));
  if (!first || !second)
    fail_argument(fmt::format("--angle '{}': it is written -30..30, 30 (both sides) or any", text));
  if (dots == std::string::npos) {
    if (*first < 0)
      fail_argument(fmt::format("--angle '{}': one number means both sides and cannot be negative", text));
    return {degrees(-*first), degrees(*first)};
  }
  const Range<Angle> range{degrees(*first), degrees(*second)};
  require_ordered(range, "--angle");
  return range;
}

BoardKind parse_board_kind(const std::string& text) {
  if (text == "dots") return BoardKind::dots;
  if (text == "checker") return BoardKind::checker;
  fail_argument(fmt::format("board '{}': it is dots or checker", text));
}

std::string not_negative(const std::string& text) {
  return text.find('-') == std::string::npos
             ? ""
             : fmt::format("{}: a whole number of 0 or above is needed", text);
}

void require_not_read(const std::vector<std::string>& written, const std::vector<std::string>& read) {
  std::error_code none;
  const auto is_same = [](const std::string& a, const std::string& b) {
    return std::filesystem::path(a).lexically_normal() == std::filesystem::path(b).lexically_normal();
  };
  for (size_t i = 0; i < written.size(); ++i)
    for (size_t k = i + 1; k < written.size(); ++k)
      if (!written[i].empty() && is_same(written[i], written[k]) &&
          (!std::filesystem::exists(written[i], none) || std::filesystem::is_regular_file(written[i], none)))
        fail_argument(fmt::format("{}: is the file of two outputs; give each its own", written[i]));
  for (const std::string& output : written)
    for (const std::string& input : read)
      if (!output.empty() && !input.empty() && std::filesystem::is_regular_file(output, none) &&
          std::filesystem::equivalent(output, input, none))
        fail_argument(fmt::format("{}: is read by this call ({}); write to another file", output, input));
}

void require_used(const CLI::App& command, const std::string& way, const std::string& used) {
  const std::string among = " " + used + " --json --help ";
  for (const CLI::Option* option : command.get_options()) {
    const std::string name = option->get_positional() ? option->get_name(true) : option->get_name();
    if (option->count() == 0 || among.find(" " + name + " ") != std::string::npos) continue;
    fail_argument(fmt::format("{}: {} takes no {}; it takes {}", command.get_name(), way, name, used));
  }
}

std::string numbered(const std::string& file, size_t index, size_t count) {
  if (count == 1) return file;
  const std::filesystem::path path(file);
  return (path.parent_path() /
          fmt::format("{}-{:02}{}", path.stem().string(), index + 1, path.extension().string()))
      .string();
}

std::string now_text() {
  return fmt::format("{:%Y-%m-%dT%H:%M:%SZ}",
                     fmt::gmtime(std::chrono::system_clock::to_time_t(std::chrono::system_clock::now())));
}

}  // namespace heron::tool
