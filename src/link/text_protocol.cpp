#include "heron/link/text_protocol.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

namespace heron::text_protocol {
namespace {

std::string plain_name(const std::string& name) {
  std::string plain = name.substr(0, 64);
  for (char& c : plain) {
    const bool fine = (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') ||
                      c == '_' || c == '.' || c == '-';
    if (!fine) c = '_';
  }
  return plain.empty() ? "_" : plain;
}

bool is_plain_name(std::string_view name) {
  return !name.empty() && name.size() <= 64 && plain_name(std::string(name)) == name;
}

/// Words of a line, taken from the front; the first that does not fit makes the reader bad and the rest is
/// skipped.
class Words {
 public:
  explicit Words(std::string_view text) : left_(text) {}

  std::string_view word() {
    const size_t end = std::min(left_.find(' '), left_.size());
    const std::string_view w = left_.substr(0, end);
    left_.remove_prefix(std::min(left_.size(), end + 1));
    if (w.empty()) good_ = false;
    return w;
  }
  void expect(std::string_view wanted) {
    if (word() != wanted) good_ = false;
  }
  template <class Number>
  Number number() {
    const std::string_view w = word();
    Number value{};
    const auto [end, error] = std::from_chars(w.data(), w.data() + w.size(), value);
    if (error != std::errc() || end != w.data() + w.size()) good_ = false;
    if constexpr (std::is_floating_point_v<Number>)
      if (!std::isfinite(value)) good_ = false;
    return value;
  }
  bool at_end() const { return left_.empty(); }
  bool good() const { return good_; }

 private:
  std::string_view left_;
  bool good_ = true;
};

template <class Line, class Kind>
Parsed<Line> finished(const Words& words, Kind line, const char* form) {
  if (words.good() && words.at_end()) return {Line(std::move(line)), {}};
  return {std::nullopt, fmt::format("wanted: {}", form)};
}

template <class Line>
std::optional<Parsed<Line>> refused_at_once(std::string_view text) {
  if (text.size() > longest_line)
    return Parsed<Line>{std::nullopt,
                        fmt::format("a line of {} bytes; at most {}", text.size(), longest_line)};
  for (const char c : text)
    if (c < 0x20 || c > 0x7e) return Parsed<Line>{std::nullopt, "only printable ASCII is allowed"};
  return std::nullopt;
}

struct Encode {
  std::string operator()(const Hello& l) const {
    return fmt::format("HERON {} SESSION {} UNITS MM DEG", l.version, l.session);
  }
  std::string operator()(const Result& l) const {
    return fmt::format("RESULT {} COUNT {} AGE {}{}", l.number, l.count, l.age_ms, l.again ? " AGAIN" : "");
  }
  std::string operator()(const Part& l) const {
    return fmt::format("PART {} {} {} {:.4f} {:.4f} {:.4f} {:.2f}", l.number, l.index, plain_name(l.name),
                       l.x, l.y, l.angle, l.score);
  }
  std::string operator()(const End& l) const { return fmt::format("END {}", l.number); }
  std::string operator()(const None& l) const { return fmt::format("NONE {}", l.number); }
  std::string operator()(const Over& l) const { return fmt::format("OVER {}", l.number); }
  std::string operator()(const Beat& l) const { return fmt::format("BEAT {}", l.number); }
  std::string operator()(const Sorry& l) const { return fmt::format("SORRY {}", l.reason); }
  std::string operator()(const Ack& l) const { return fmt::format("ACK {}", l.number); }
  std::string operator()(const Done& l) const { return fmt::format("DONE {}", l.number); }
  std::string operator()(const Next& l) const {
    if (!l.robot_from_flange) return "NEXT";
    return fmt::format("NEXT AT {:.4f} {:.4f} {:.4f}", l.robot_from_flange->x, l.robot_from_flange->y,
                       l.robot_from_flange->angle.degrees());
  }
};

}  // namespace

std::string encode(const StationLine& line) { return std::visit(Encode{}, line); }
std::string encode(const RobotLine& line) { return std::visit(Encode{}, line); }

Parsed<StationLine> parse_station_line(std::string_view text) {
  if (auto refused = refused_at_once<StationLine>(text)) return *refused;
  Words words(text);
  const std::string_view kind = words.word();
  if (kind == "HERON") {
    Hello l;
    l.version = words.number<int>();
    words.expect("SESSION");
    l.session = words.word();
    words.expect("UNITS"), words.expect("MM"), words.expect("DEG");
    if (words.good() && l.version != version)
      return {std::nullopt, fmt::format("protocol version {}; this side speaks {}", l.version, version)};
    return finished<StationLine>(words, l, "HERON 1 SESSION id UNITS MM DEG");
  }
  if (kind == "RESULT") {
    Result l;
    l.number = words.number<uint64_t>();
    words.expect("COUNT");
    l.count = words.number<int>();
    words.expect("AGE");
    l.age_ms = words.number<int64_t>();
    if (!words.at_end()) words.expect("AGAIN"), l.again = true;
    if (l.count < 0 || l.count > 100000) return {std::nullopt, "COUNT must be from 0 to 100000"};
    return finished<StationLine>(words, l, "RESULT number COUNT count AGE ms [AGAIN]");
  }
  if (kind == "PART") {
    Part l;
    l.number = words.number<uint64_t>();
    l.index = words.number<int>();
    l.name = words.word();
    l.x = words.number<double>(), l.y = words.number<double>(), l.angle = words.number<double>(),
    l.score = words.number<double>();
    if (!is_plain_name(l.name)) return {std::nullopt, "a name holds up to 64 of A-Z a-z 0-9 _ . -"};
    return finished<StationLine>(words, l, "PART number index name x y angle score");
  }
  if (kind == "END") return finished<StationLine>(words, End{words.number<uint64_t>()}, "END number");
  if (kind == "NONE") return finished<StationLine>(words, None{words.number<uint64_t>()}, "NONE number");
  if (kind == "OVER") return finished<StationLine>(words, Over{words.number<uint64_t>()}, "OVER number");
  if (kind == "BEAT") return finished<StationLine>(words, Beat{words.number<uint64_t>()}, "BEAT number");
  if (kind == "SORRY")
    return {StationLine(Sorry{std::string(text.substr(std::min<size_t>(6, text.size())))}), {}};
  return {std::nullopt, "a line starts with HERON, RESULT, PART, END, NONE, OVER, BEAT or SORRY"};
}

Parsed<RobotLine> parse_robot_line(std::string_view text) {
  if (auto refused = refused_at_once<RobotLine>(text)) return *refused;
  Words words(text);
  const std::string_view kind = words.word();
  if (kind == "ACK") return finished<RobotLine>(words, Ack{words.number<uint64_t>()}, "ACK number");
  if (kind == "DONE") return finished<RobotLine>(words, Done{words.number<uint64_t>()}, "DONE number");
  if (kind == "NEXT") {
    Next l;
    if (!words.at_end()) {
      words.expect("AT");
      const auto x = words.number<double>(), y = words.number<double>(), angle = words.number<double>();
      l.robot_from_flange = Pose2{x, y, degrees(angle)};
    }
    return finished<RobotLine>(words, l, "NEXT [AT x y angle]");
  }
  return {std::nullopt, "a line starts with ACK, NEXT or DONE"};
}

}  // namespace heron::text_protocol
