#include "heron/link/text_protocol.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "plain_word.hpp"

namespace heron::text_protocol {

const std::array<const char*, field_count> field_words{
    "x",           "y",         "angle",     "score",   "z",           "sigma_x",    "sigma_y",
    "sigma_angle", "ambiguous", "range_end", "verdict", "setup",       "grasp",      "approach_z",
    "retreat_z",   "place_x",   "place_y",   "place_z", "place_angle", "velocity_x", "velocity_y"};

const Fields& default_fields() {
  static const Fields fields{Field::x, Field::y, Field::angle, Field::score};
  return fields;
}

std::string_view mode_word(LinkMode mode) { return mode == LinkMode::push ? "push" : "ask"; }

bool Part::can_be_sent() const {
  return std::all_of(values.begin(), values.end(), [](const std::optional<double>& v) {
    return !v || (std::isfinite(*v) && std::abs(*v) <= largest_value);
  });
}

namespace {

std::string plain_name(const std::string& name) {
  const std::string plain = plain_word(name.substr(0, 64));
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
    // A space that no word follows belongs to no grammar.
    if (w.empty() || end + 1 == left_.size()) good_ = false;
    left_.remove_prefix(std::min(left_.size(), end + 1));
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
    if constexpr (std::is_integral_v<Number>)
      if (w.size() > 1 && w[0] == '0') good_ = false;
    if constexpr (std::is_floating_point_v<Number>)
      if (!std::isfinite(value)) good_ = false;
    return value;
  }
  void refuse() { good_ = false; }
  bool next_is(std::string_view word) const { return left_.substr(0, left_.find(' ')) == word; }
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

/// Nothing when the word is no mode.
std::optional<LinkMode> mode_of(std::string_view word) {
  if (word == "push") return LinkMode::push;
  if (word == "ask") return LinkMode::ask;
  return std::nullopt;
}

std::optional<Field> field_of(std::string_view word) {
  const auto it = std::find(field_words.begin(), field_words.end(), word);
  if (it == field_words.end()) return std::nullopt;
  return static_cast<Field>(it - field_words.begin());
}

std::string wrong_version(int theirs) {
  return fmt::format("protocol version {}; this side speaks {}", theirs, version);
}

int digits_of(Field f) {
  switch (f) {
    case Field::score:
      return 2;
    case Field::ambiguous:
    case Field::range_end:
    case Field::verdict:
    case Field::setup:
    case Field::grasp:
      return 0;
    case Field::sigma_x:
    case Field::sigma_y:
    case Field::sigma_angle:
      return 5;
    default:
      return 4;
  }
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
  const Fields& fields;

  std::string operator()(const Hello& l) const {
    std::string text = fmt::format("HERON {} SESSION {} MODE {} UNITS MM DEG FIELDS", l.version, l.session,
                                   mode_word(l.mode));
    for (const Field f : l.fields) text += fmt::format(" {}", field_words[static_cast<size_t>(f)]);
    return text;
  }
  std::string operator()(const Result& l) const {
    return fmt::format("RESULT {} COUNT {} AGE {}{}{}", l.number, l.count, l.age_ms,
                       l.setup > 0 ? fmt::format(" SETUP {}", l.setup) : "", l.again ? " AGAIN" : "");
  }
  std::string operator()(const Part& l) const {
    std::string text = fmt::format("PART {} {} {}", l.number, l.index, plain_name(l.name));
    for (const Field f : fields) text += l[f] ? fmt::format(" {:.{}f}", *l[f], digits_of(f)) : " -";
    return text;
  }
  std::string operator()(const End& l) const { return fmt::format("END {}", l.number); }
  std::string operator()(const None& l) const { return fmt::format("NONE {}", l.number); }
  std::string operator()(const EndOfResults& l) const { return fmt::format("END-OF-RESULTS {}", l.number); }
  std::string operator()(const Heartbeat& l) const { return fmt::format("HEARTBEAT {}", l.number); }
  std::string operator()(const Hold& l) const { return fmt::format("HOLD {}", l.number); }
  std::string operator()(const Selected& l) const { return fmt::format("SELECTED {}", l.setup); }
  std::string operator()(const Refusal& l) const {
    std::string text = "ERROR " + l.reason.substr(0, longest_line - 6);
    for (char& c : text)
      if (c < 0x20 || c > 0x7e) c = '?';
    return text;
  }
  std::string operator()(const Robot& l) const {
    return fmt::format("ROBOT {} MODE {}{}{}", l.version, mode_word(l.mode), l.token.empty() ? "" : " TOKEN ",
                       l.token);
  }
  std::string operator()(const Ack& l) const {
    return l.index > 0 ? fmt::format("ACK {} {}", l.number, l.index) : fmt::format("ACK {}", l.number);
  }
  std::string operator()(const Done& l) const { return fmt::format("DONE {}", l.number); }
  std::string operator()(const Select& l) const { return fmt::format("SELECT {}", l.setup); }
  std::string operator()(const Next& l) const {
    if (!l.robot_from_flange) return "NEXT";
    return fmt::format("NEXT AT {:.4f} {:.4f} {:.4f}", l.robot_from_flange->x, l.robot_from_flange->y,
                       l.robot_from_flange->angle.degrees());
  }
};

/// The number of a set-up.
int setup_in(Words& words) {
  const int setup = words.number<int>();
  if (setup < 1 || setup > 65535) words.refuse();
  return setup;
}

Parsed<StationLine> hello_of(Words& words) {
  Hello l;
  l.version = words.number<int>();
  if (words.good() && l.version != version) return {std::nullopt, wrong_version(l.version)};
  words.expect("SESSION");
  l.session = words.word();
  words.expect("MODE");
  const auto mode = mode_of(words.word());
  words.expect("UNITS"), words.expect("MM"), words.expect("DEG"), words.expect("FIELDS");
  l.fields.clear();
  bool known = mode.has_value();
  while (words.good() && !words.at_end()) {
    const auto field = field_of(words.word());
    known = known && field && std::find(l.fields.begin(), l.fields.end(), *field) == l.fields.end();
    if (known) l.fields.push_back(*field);
  }
  if (!known || l.fields.empty())
    return {std::nullopt, "wanted: HERON 2 SESSION id MODE push|ask UNITS MM DEG FIELDS field..., each once"};
  l.mode = *mode;
  return finished<StationLine>(words, l, "HERON 2 SESSION id MODE push|ask UNITS MM DEG FIELDS field...");
}

Parsed<StationLine> part_of(Words& words, const Fields& fields) {
  Part l;
  l.number = words.number<uint64_t>();
  l.index = words.number<int>();
  l.name = words.word();
  for (const Field f : fields) {
    if (words.next_is("-"))
      words.word();
    else
      l[f] = words.number<double>();
  }
  if (!is_plain_name(l.name)) return {std::nullopt, "a name holds up to 64 of A-Z a-z 0-9 _ . -"};
  if (!l.can_be_sent()) return {std::nullopt, fmt::format("a value beyond {:g}", largest_value)};
  return finished<StationLine>(words, l, "PART number index name, and a value or - for each field");
}

Parsed<RobotLine> robot_of(Words& words) {
  Robot l;
  l.version = words.number<int>();
  if (words.good() && l.version != version) return {std::nullopt, wrong_version(l.version)};
  words.expect("MODE");
  const auto mode = mode_of(words.word());
  if (!words.at_end()) {
    words.expect("TOKEN");
    l.token = words.word();
  }
  if (!mode) return {std::nullopt, "wanted: ROBOT 2 MODE push|ask [TOKEN word]"};
  l.mode = *mode;
  return finished<RobotLine>(words, l, "ROBOT 2 MODE push|ask [TOKEN word]");
}

}  // namespace

std::string encode(const StationLine& line, const Fields& fields) { return std::visit(Encode{fields}, line); }
std::string encode_result(const Result& result, const std::vector<Part>& parts, const Fields& fields) {
  std::string lines = encode(StationLine(result));
  for (const Part& part : parts) lines += "\n" + encode(StationLine(part), fields);
  return lines + "\n" + encode(StationLine(End{result.number}));
}

std::string encode(const RobotLine& line) { return std::visit(Encode{default_fields()}, line); }

Parsed<StationLine> parse_station_line(std::string_view text, const Fields& fields) {
  if (auto refused = refused_at_once<StationLine>(text)) return *refused;
  Words words(text);
  const std::string_view kind = words.word();
  if (kind == "HERON") return hello_of(words);
  if (kind == "RESULT") {
    Result l;
    l.number = words.number<uint64_t>();
    words.expect("COUNT");
    l.count = words.number<int>();
    words.expect("AGE");
    l.age_ms = words.number<int64_t>();
    if (words.next_is("SETUP")) words.expect("SETUP"), l.setup = setup_in(words);
    if (!words.at_end()) words.expect("AGAIN"), l.again = true;
    if (l.count < 0 || l.count > 100000) return {std::nullopt, "COUNT must be from 0 to 100000"};
    return finished<StationLine>(words, l, "RESULT number COUNT count AGE ms [SETUP setup] [AGAIN]");
  }
  if (kind == "PART") return part_of(words, fields);
  if (kind == "END") return finished<StationLine>(words, End{words.number<uint64_t>()}, "END number");
  if (kind == "NONE") return finished<StationLine>(words, None{words.number<uint64_t>()}, "NONE number");
  if (kind == "END-OF-RESULTS")
    return finished<StationLine>(words, EndOfResults{words.number<uint64_t>()}, "END-OF-RESULTS number");
  if (kind == "HEARTBEAT")
    return finished<StationLine>(words, Heartbeat{words.number<uint64_t>()}, "HEARTBEAT number");
  if (kind == "HOLD") return finished<StationLine>(words, Hold{words.number<uint64_t>()}, "HOLD number");
  if (kind == "SELECTED") return finished<StationLine>(words, Selected{setup_in(words)}, "SELECTED setup");
  if (kind == "ERROR")
    return {StationLine(Refusal{std::string(text.substr(std::min<size_t>(6, text.size())))}), {}};
  return {std::nullopt,
          "a line starts with HERON, RESULT, PART, END, NONE, END-OF-RESULTS, HEARTBEAT, HOLD, SELECTED or "
          "ERROR"};
}

Parsed<RobotLine> parse_robot_line(std::string_view text) {
  if (auto refused = refused_at_once<RobotLine>(text)) return *refused;
  Words words(text);
  const std::string_view kind = words.word();
  if (kind == "ROBOT") return robot_of(words);
  if (kind == "ACK") {
    Ack l{words.number<uint64_t>()};
    if (!words.at_end()) {
      l.index = words.number<int>();
      if (l.index < 1) return {std::nullopt, "wanted: ACK number [index], the index from 1"};
    }
    return finished<RobotLine>(words, l, "ACK number [index]");
  }
  if (kind == "DONE") return finished<RobotLine>(words, Done{words.number<uint64_t>()}, "DONE number");
  if (kind == "NEXT") {
    Next l;
    if (!words.at_end()) {
      words.expect("AT");
      const auto x = words.number<double>(), y = words.number<double>(), angle = words.number<double>();
      l.robot_from_flange = RobotFromFlange(x, y, WorldAngle(degrees(angle)));
      if (!(std::max(std::abs(x), std::abs(y)) <= largest_value && std::abs(angle) <= 360))
        return {std::nullopt, fmt::format("NEXT AT takes x and y within {:g} mm and an angle within 360 "
                                          "degrees",
                                          largest_value)};
    }
    return finished<RobotLine>(words, l, "NEXT [AT x y angle]");
  }
  if (kind == "SELECT")
    return finished<RobotLine>(words, Select{setup_in(words)}, "SELECT setup, a number from 1 to 65535");
  return {std::nullopt, "a line starts with ROBOT, ACK, NEXT, DONE or SELECT"};
}

}  // namespace heron::text_protocol
