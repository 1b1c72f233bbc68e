#include "heron/files/toml_file.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <toml++/toml.h>

#include <algorithm>

#include "heron/base/nearest_name.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace {

ErrorPlace place(const std::string& path, const toml::source_region& where, const std::string& key = {}) {
  return {path, static_cast<int>(where.begin.line), static_cast<int>(where.begin.column), key};
}

const char* kind_of(const toml::node& node) {
  switch (node.type()) {
    case toml::node_type::table:
      return "a table";
    case toml::node_type::array:
      return "an array";
    case toml::node_type::string:
      return "a text";
    case toml::node_type::integer:
      return "a whole number";
    case toml::node_type::floating_point:
      return "a number";
    case toml::node_type::boolean:
      return "true or false";
    default:
      return "a date or time";
  }
}

/// The first byte that is no UTF-8 as RFC 3629 has it; the size where there is none.
size_t first_broken(std::string_view text) {
  const auto byte = [&](size_t i) { return i < text.size() ? static_cast<uint8_t>(text[i]) : uint8_t{0}; };
  for (size_t i = 0; i < text.size();) {
    const uint8_t a = byte(i);
    const size_t more = a < 0x80                ? 0
                        : a >= 0xc2 && a < 0xe0 ? 1
                        : a >= 0xe0 && a < 0xf0 ? 2
                        : a >= 0xf0 && a < 0xf5 ? 3
                                                : 9;
    if (more > 3) return i;
    for (size_t k = 1; k <= more; ++k)
      if ((byte(i + k) & 0xc0) != 0x80) return i;
    const uint8_t b =
        byte(i + 1);  // overlong forms, halves of pairs, and what lies beyond the last character
    if ((a == 0xe0 && b < 0xa0) || (a == 0xed && b > 0x9f) || (a == 0xf0 && b < 0x90) ||
        (a == 0xf4 && b > 0x8f))
      return i;
    i += more + 1;
  }
  return text.size();
}

/// Throws for text that is not UTF-8, or nested so deeply that a parser that calls itself would run out of
/// stack: brackets, and the parts of dotted keys. Strings and remarks do not count.
void require_parsable(std::string_view text, const std::string& path) {
  constexpr int max_depth = 32;
  if (const size_t at = first_broken(text); at < text.size()) {
    const std::string_view before = text.substr(0, at);
    const size_t begun = before.rfind('\n') + 1;  // 0 in the first line
    const auto line = static_cast<int>(1 + std::count(before.begin(), before.end(), '\n'));
    fail_file({path, line, static_cast<int>(at - begun) + 1, {}}, "a byte that is no UTF-8 text");
  }
  int depth = 0, dots = 0, line = 1;
  for (size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (c == '#') {
      i = std::min(text.find('\n', i), text.size());
      if (i < text.size()) ++line, dots = 0;
      continue;
    }
    if (c == '"' || c == '\'') {
      const bool multi = text.substr(i, 3) == std::string(3, c);
      const size_t from = i, quotes = multi ? 3 : 1;
      for (i += quotes; i < text.size() && text.substr(i, quotes) != std::string(quotes, c); ++i) {
        if (c == '"' && text[i] == '\\') ++i;
        if (i < text.size() && text[i] == '\n' && !multi) break;  // the parser reports what is wrong
      }
      line += static_cast<int>(
          std::count(text.begin() + static_cast<std::ptrdiff_t>(from),
                     text.begin() + static_cast<std::ptrdiff_t>(std::min(i, text.size())), '\n'));
      i += i < text.size() && text[i] == '\n' ? 0 : quotes - 1;
      continue;
    }
    if (c == '\n') ++line;
    if (c == '\n' || c == '=' || c == ',') dots = 0;
    depth += c == '[' || c == '{' ? 1 : c == ']' || c == '}' ? -1 : 0;
    dots += c == '.';
    if (depth > max_depth || dots > max_depth)
      fail_file({path, line, 0, {}}, fmt::format("nested more than {} deep", max_depth));
  }
}

}  // namespace

struct TomlTable::Content {
  std::shared_ptr<const toml::table> root;  // keeps `table` alive
  const toml::table* table;
  std::string path;

  const toml::node& at(const std::string& key) const {
    const toml::node* node = table->get(key);
    if (!node) fail_file(place(path, table->source(), key), "is missing");
    return *node;
  }
  [[noreturn]] void wrong_kind(const toml::node& node, const std::string& key,
                               const std::string& wanted) const {
    fail_file(place(path, node.source(), key), fmt::format("must be {}, not {}", wanted, kind_of(node)));
  }
  double number(const toml::node& node, const std::string& key) const {
    const auto value = node.value<double>();
    if (!value || node.is_boolean()) wrong_kind(node, key, "a number");
    // Squares and products of what is read must be numbers as well.
    constexpr double largest = 1e30;
    if (!(std::abs(*value) <= largest))
      fail_file(place(path, node.source(), key),
                fmt::format("must be a number from {:g} to {:g}", -largest, largest));
    return *value;
  }
};

TomlTable::TomlTable(std::shared_ptr<const Content> content) : content_(std::move(content)) {}
TomlTable::~TomlTable() = default;
TomlTable::TomlTable(TomlTable&&) noexcept = default;
TomlTable& TomlTable::operator=(TomlTable&&) noexcept = default;

TomlTable TomlTable::parse(const std::string& text, const std::string& path, int known_version) {
  require_parsable(text, path);
  auto root = std::make_shared<toml::table>();
  try {
    *root = toml::parse(text);
  } catch (const toml::parse_error& error) {
    fail_file(place(path, error.source()), std::string(error.description()));
  }
  const toml::table* table = root.get();
  TomlTable result(std::make_shared<const Content>(Content{std::move(root), table, path}));
  const int version = result.whole("version");
  if (version != known_version)
    result.refuse("version", fmt::format("is {}; this program reads version {}{}", version, known_version,
                                         version > known_version ? ", a newer one is needed" : ""));
  return result;
}

TomlTable TomlTable::load(const std::string& path, int known_version) {
  return parse(read_file(path, size_t{16} << 20), path, known_version);
}

bool TomlTable::has(const std::string& key) const {
  asked_.insert(key);
  return content_->table->contains(key);
}

std::vector<std::string> TomlTable::keys() const {
  std::vector<std::string> keys;
  for (const auto& [key, value] : *content_->table) keys.emplace_back(key.str());
  return keys;
}

double TomlTable::number(const std::string& key) const {
  asked_.insert(key);
  return content_->number(content_->at(key), key);
}
double TomlTable::number(const std::string& key, double otherwise) const {
  return has(key) ? number(key) : otherwise;
}

int TomlTable::whole(const std::string& key) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const auto* value = node.as_integer();
  if (!value || value->get() > 1000000000 || value->get() < -1000000000)
    content_->wrong_kind(node, key, "a whole number");
  return static_cast<int>(value->get());
}
int TomlTable::whole(const std::string& key, int otherwise) const {
  return has(key) ? whole(key) : otherwise;
}

int TomlTable::whole_or(const std::string& key, const char* word, int meaning) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const auto* text = node.as_string();
  if (text && text->get() == word) return meaning;
  if (text) content_->wrong_kind(node, key, fmt::format("a whole number, or \"{}\"", word));
  return whole(key);
}

std::string TomlTable::text(const std::string& key) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const auto* value = node.as_string();
  if (!value) content_->wrong_kind(node, key, "a text in quotes");
  return value->get();
}
std::string TomlTable::text(const std::string& key, const std::string& otherwise) const {
  return has(key) ? text(key) : otherwise;
}

std::string TomlTable::word(const std::string& key, const std::vector<std::string>& allowed) const {
  std::string value = text(key);
  if (std::find(allowed.begin(), allowed.end(), value) == allowed.end())
    refuse(key, fmt::format("is \"{}\"; it may be \"{}\"", value, fmt::join(allowed, "\" or \"")));
  return value;
}

std::vector<std::string> TomlTable::texts(const std::string& key) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const toml::array* array = node.as_array();
  if (!array) content_->wrong_kind(node, key, "an array of texts in quotes");
  std::vector<std::string> values;
  for (const toml::node& element : *array) {
    const auto* value = element.as_string();
    if (!value) content_->wrong_kind(element, key, "an array of texts in quotes");
    values.push_back(value->get());
  }
  return values;
}

std::vector<double> TomlTable::numbers(const std::string& key, size_t count) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const toml::array* array = node.as_array();
  if (!array || array->size() != count)
    content_->wrong_kind(node, key, fmt::format("an array of {} numbers", count));
  std::vector<double> values;
  for (const toml::node& element : *array) values.push_back(content_->number(element, key));
  return values;
}

std::vector<double> TomlTable::numbers(const std::string& key) const {
  const toml::node& node = content_->at(key);
  const toml::array* array = node.as_array();
  if (!array) content_->wrong_kind(node, key, "an array of numbers");
  return numbers(key, array->size());
}

bool TomlTable::flag(const std::string& key, bool otherwise) const {
  if (!has(key)) return otherwise;
  const toml::node& node = content_->at(key);
  const auto value = node.value_exact<bool>();
  if (!value) content_->wrong_kind(node, key, "true or false");
  return *value;
}

std::vector<std::vector<double>> TomlTable::rows(const std::string& key, size_t columns) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const toml::array* array = node.as_array();
  if (!array) content_->wrong_kind(node, key, fmt::format("an array of rows of {} numbers", columns));
  std::vector<std::vector<double>> rows;
  for (const toml::node& element : *array) {
    const toml::array* row = element.as_array();
    if (!row || row->size() != columns)
      content_->wrong_kind(element, key, fmt::format("an array of rows of {} numbers", columns));
    rows.emplace_back();
    for (const toml::node& value : *row) rows.back().push_back(content_->number(value, key));
  }
  return rows;
}

Range<double> TomlTable::range(const std::string& key, Range<double> otherwise) const {
  if (!has(key)) return otherwise;
  const std::vector<double> ends = numbers(key, 2);
  if (ends[0] > ends[1])
    refuse(key, fmt::format("is [{}, {}]; the ends are swapped, the smaller comes first", ends[0], ends[1]));
  return {ends[0], ends[1]};
}

Range<Angle> TomlTable::angle_range(const std::string& key, Range<Angle> otherwise) const {
  const Range<double> r = range(key, {otherwise.min.degrees(), otherwise.max.degrees()});
  return {degrees(r.min), degrees(r.max)};
}

TomlTable TomlTable::table(const std::string& key) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const toml::table* table = node.as_table();
  if (!table) content_->wrong_kind(node, key, "a table");
  return TomlTable(std::make_shared<const Content>(Content{content_->root, table, content_->path}));
}

std::optional<TomlTable> TomlTable::optional_table(const std::string& key) const {
  if (!has(key)) return std::nullopt;
  return table(key);
}

std::vector<TomlTable> TomlTable::tables(const std::string& key) const {
  asked_.insert(key);
  const toml::node& node = content_->at(key);
  const toml::array* array = node.as_array();
  if (!array) content_->wrong_kind(node, key, fmt::format("one or more tables [[{}]]", key));
  std::vector<TomlTable> result;
  for (const toml::node& element : *array) {
    const toml::table* table = element.as_table();
    if (!table) content_->wrong_kind(element, key, fmt::format("tables [[{}]]", key));
    result.push_back(
        TomlTable(std::make_shared<const Content>(Content{content_->root, table, content_->path})));
  }
  return result;
}

void TomlTable::done() const {
  for (const auto& [key, node] : *content_->table) {
    const std::string name(key.str());
    if (asked_.count(name)) continue;
    const ErrorPlace where = place(content_->path, key.source(), name);
    if (const auto nearest = nearest_name(name, {asked_.begin(), asked_.end()}))
      fail_file(where, fmt::format("is an unknown key; did you mean '{}'?", *nearest));
    fail_file(where, fmt::format("is an unknown key; known here are: {}", fmt::join(asked_, ", ")));
  }
}

void TomlTable::refuse(const std::string& key, const std::string& why) const {
  const toml::node* node = content_->table->get(key);
  fail_file(place(content_->path, node ? node->source() : content_->table->source(), key), why);
}

std::string toml_number(double value) {
  std::string text = fmt::format("{}", value);
  if (text.find_first_of(".einf") == std::string::npos) text += ".0";
  return text;
}

std::string toml_text(const std::string& value) {
  std::string text = "\"";
  for (const char c : value) {
    if (c == '"' || c == '\\')
      text += '\\', text += c;
    else if (static_cast<unsigned char>(c) < 0x20 || c == 0x7f)
      text += fmt::format("\\u{:04x}", static_cast<unsigned char>(c));
    else
      text += c;
  }
  return text + "\"";
}

}  // namespace heron
