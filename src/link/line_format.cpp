#include "heron/link/line_format.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <set>

#include "heron/base/error.hpp"
#include "plain_word.hpp"

namespace heron {
namespace {

void require_form(const FieldForm& form) {
  const auto refuse = [&](const std::string& what) {
    fail_argument(fmt::format("field '{}': {}", form.name, what));
  };
  if (form.name.empty()) fail_argument("a field needs a name, by which the lines call it");
  if (form.name.find_first_of("{}") != std::string::npos) refuse("a name must not hold braces");
  if (form.name == "parts") refuse("'parts' is where a line's parts stand; call it otherwise");
  if (!std::isfinite(form.zero) || !std::isfinite(form.scale) || form.scale == 0)
    refuse("zero and scale must be finite, and scale not 0");
  if (form.decimals.value_or(0) < 0 || form.decimals.value_or(0) > 9) refuse("decimals must be 0 to 9");
  if (form.width < 0 || form.width > 32) refuse("width must be 0 to 32");
}

}  // namespace

std::string written(const FieldValue& value, const FieldForm& form, bool whole) {
  if (const auto* number = std::get_if<double>(&value)) {
    const double scaled = (*number - form.zero) * form.scale;
    if (!std::isfinite(scaled)) return form.missing;
    std::string text = fmt::format("{:.{}f}", scaled, form.decimals.value_or(whole ? 0 : 3));
    if (text.starts_with('-') && text.find_first_of("123456789") == std::string::npos)
      text.erase(0, 1);  // -0.000 is 0
    const size_t sign = text.starts_with('-') ? 1 : 0;
    if (const auto width = static_cast<size_t>(form.width); text.size() < width)
      text.insert(sign, width - text.size(), '0');
    return text;
  }
  if (const auto* text = std::get_if<std::string>(&value)) {
    if (const auto word = form.words.find(*text); word != form.words.end()) return word->second;
    return plain_word(*text);
  }
  return form.missing;
}

namespace {

constexpr std::string_view setup_place = "{setup}";

void require_selection(const LineFormat& f) {
  if (f.select.empty() && (!f.selected.empty() || !f.not_selected.empty()))
    fail_argument("selected and not_selected answer a line that selects; say with select how it is written");
  if (f.select.empty()) return;
  if (f.ask.empty())
    fail_argument("select is for mode \"ask\"; a receiver that asks nothing is not listened to");
  const size_t at = f.select.find(setup_place);
  if (at == std::string::npos || f.select.find(setup_place, at + 1) != std::string::npos)
    fail_argument("select must hold {setup} once, where the number of the set-up stands");
  if (f.selected.empty() || f.not_selected.empty())
    fail_argument(
        "select needs selected and not_selected, the answers when a set-up is loaded and when it is not");
  if (setup_in(f.ask, f.select)) fail_argument("ask looks like a line that selects; write them otherwise");
}

}  // namespace

std::optional<int> setup_in(const std::string& line, const std::string& form) {
  const size_t at = form.find(setup_place), after = form.size() - at - setup_place.size();
  if (line.size() <= at + after || !line.starts_with(form.substr(0, at)) ||
      !line.ends_with(form.substr(form.size() - after)))
    return std::nullopt;
  const char *begin = line.data() + at, *end = line.data() + line.size() - after;
  int setup = 0;
  const auto [stop, error] = std::from_chars(begin, end, setup);
  if (error != std::errc() || stop != end || setup < 0) return std::nullopt;
  return setup;
}

std::string with_setup(const std::string& form, int setup) {
  std::string line = form;
  if (const size_t at = line.find(setup_place); at != std::string::npos)
    line.replace(at, setup_place.size(), std::to_string(setup));
  return line;
}

LineWriter::LineWriter(LineFormat format) : format_(std::move(format)) {
  std::set<std::string> names;
  for (const FieldForm& form : format_.forms) {
    require_form(form);
    if (!names.insert(form.name).second) fail_argument(fmt::format("two fields are called '{}'", form.name));
    const FieldInfo* of_part = field_info(part_fields(), form.of);
    const FieldInfo* info = of_part ? of_part : field_info(report_fields(), form.of);
    if (info && info->text && (form.decimals || form.zero != 0 || form.scale != 1 || form.width != 0))
      fail_argument(fmt::format("field '{}': '{}' is a text; zero, scale, decimals and width are for numbers",
                                form.name, form.of));
    if (!info)
      fail_argument(fmt::format("field '{}': there is no field '{}'; a part has {}; a result has {}",
                                form.name, form.of, names_of(part_fields()), names_of(report_fields())));
  }
  if (format_.line_end != "\n" && format_.line_end != "\r\n")
    fail_argument("line_end must be \"\\n\" or \"\\r\\n\"");
  require_selection(format_);
  if (format_.max_parts < 1) fail_argument("max_parts must be at least 1");
  line_ = pieces_of(format_.line, "line", false), part_ = pieces_of(format_.part, "part", true);
  if (format_.none) none_ = pieces_of(*format_.none, "none", false);
  const auto is_place = [](const Piece& p) { return p.parts; };
  const bool placed = std::any_of(line_.begin(), line_.end(), is_place);
  if (placed && format_.part.empty()) fail_argument("line has {parts}; say with part how each is written");
  if (!placed && !format_.part.empty())
    fail_argument("part is given; say with {parts} where they stand in line");
  if (std::any_of(none_.begin(), none_.end(), is_place)) fail_argument("none is for results without {parts}");
  for (const FieldForm& form : format_.forms) require_used(form);
  if (line_.empty()) fail_argument("line is empty; it must say what is sent of a result");
}

void LineWriter::require_used(const FieldForm& form) const {
  bool used = false;
  for (const auto* pieces : {&line_, &part_, &none_})
    for (const Piece& p : *pieces) {
      if (p.form.of.empty() || p.form.name != form.name) continue;
      used = true;
      if (!p.is_text && !form.words.empty())
        fail_argument(
            fmt::format("field '{}': words are for a text, and '{}' is a number", form.name, form.of));
    }
  if (!used)
    fail_argument(fmt::format("field '{}' stands in no line; write it as {{{}}}", form.name, form.name));
}

std::vector<std::string> LineWriter::fields() const {
  std::vector<std::string> fields;
  for (const auto* pieces : {&line_, &part_, &none_})
    for (const Piece& p : *pieces)
      if (!p.form.of.empty()) fields.push_back(p.form.of);
  return fields;
}

std::vector<LineWriter::Piece> LineWriter::pieces_of(const std::string& text, const char* key,
                                                     bool of_part) const {
  const auto& fields = of_part ? part_fields() : report_fields();
  std::vector<Piece> pieces;
  std::string plain;
  const auto end_plain = [&] {
    if (!plain.empty()) pieces.push_back({.text = std::move(plain)});
    plain.clear();
  };
  for (size_t i = 0; i < text.size(); ++i) {
    const bool doubled = i + 1 < text.size() && text[i + 1] == text[i];
    if ((text[i] == '{' || text[i] == '}') && doubled) {
      plain += text[i++];
      continue;
    }
    if (text[i] == '}')
      fail_argument(fmt::format("{}: column {}: '}}' without '{{'; write '}}}}' for a brace", key, i + 1));
    if (text[i] != '{') {
      plain += text[i];
      continue;
    }
    const size_t end = text.find('}', i);
    if (end == std::string::npos)
      fail_argument(fmt::format("{}: column {}: '{{' is not closed; write '{{{{' for a brace", key, i + 1));
    const std::string name = text.substr(i + 1, end - i - 1);
    i = end;
    end_plain();
    if (name == "parts" && !of_part) {
      pieces.push_back({.parts = true});
      continue;
    }
    const auto form = std::find_if(format_.forms.begin(), format_.forms.end(),
                                   [&](const FieldForm& f) { return f.name == name; });
    Piece piece{.form = form == format_.forms.end() ? FieldForm{.name = name, .of = name} : *form};
    const FieldInfo* info = field_info(fields, piece.form.of);
    if (!info)
      fail_argument(fmt::format("{}: a {} has no field '{}'; it has {}", key,
                                of_part ? "part" : "whole result", piece.form.of, names_of(fields)));
    piece.whole = info->whole, piece.is_text = info->text;
    pieces.push_back(std::move(piece));
  }
  end_plain();
  return pieces;
}

template <class Value>
std::string LineWriter::joined(const std::vector<Piece>& pieces, const Value& value) {
  std::string text;
  for (const Piece& p : pieces) text += p.form.of.empty() && !p.parts ? p.text : value(p);
  return text;
}

std::string LineWriter::write(const SentReport& sent) const {
  const size_t count = std::min(sent.parts.size(), static_cast<size_t>(format_.max_parts));
  SentReport kept{sent.report,
                  sent.age_ms,
                  {sent.parts.begin(), sent.parts.begin() + static_cast<std::ptrdiff_t>(count)}};
  std::string parts;
  for (size_t i = 0; i < count; ++i) {
    if (i > 0) parts += format_.separator;
    parts +=
        joined(part_, [&](const Piece& p) { return written(field_of(kept, i, p.form.of), p.form, p.whole); });
  }
  const auto& pieces = count == 0 && format_.none ? none_ : line_;
  return joined(pieces, [&](const Piece& p) {
    return p.parts ? parts : written(field_of(kept, p.form.of), p.form, p.whole);
  });
}

}  // namespace heron
