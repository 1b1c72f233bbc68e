#include "heron/reader/reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <regex>

#include "heron/gauge/measure.hpp"

namespace heron {
namespace {

std::string trimmed(const std::string& text) {
  const char* blanks = " \t\r\n\f\v";
  const size_t from = text.find_first_not_of(blanks);
  return from == std::string::npos ? std::string()
                                   : text.substr(from, text.find_last_not_of(blanks) - from + 1);
}

/// Text of people: valid UTF-8 without control characters.
bool is_text(const std::string& text) {
  for (const char c : text)
    if (static_cast<unsigned char>(c) < 0x20 || c == 0x7f) return false;
  try {
    nlohmann::json(text).dump();  // refuses what is no UTF-8
    return true;
  } catch (const nlohmann::json::exception&) {
    return false;
  }
}

ReaderAnswer unreadable(std::string why) {
  return {.state = ReaderAnswer::State::unreadable, .why = std::move(why)};
}

ReaderAnswer answer_of(const std::string& text) {
  if (!is_text(text)) return unreadable("its text holds bytes that are no text");
  ReaderAnswer answer{.state = text.empty() ? ReaderAnswer::State::empty : ReaderAnswer::State::text,
                      .text = text};
  return answer;
}

/// What the gauge says of a text: empty when it accepts it.
std::string refusal(const CropGauge& gauge, const ReaderAnswer& answer) {
  if (answer.confidence && *answer.confidence < gauge.min_confidence)
    return fmt::format("reads '{}' with a confidence of {:.2f}, below {:.2f}", answer.text,
                       *answer.confidence, gauge.min_confidence);
  if (gauge.min_confidence > 0 && !answer.confidence)
    return fmt::format("reads '{}' without a confidence", answer.text);
  constexpr size_t longest = 1000;  // regular expressions of the standard library recurse with the text
  if (answer.text.size() > longest)
    return fmt::format("reads {} bytes; a text has at most {}", answer.text.size(), longest);
  const bool listed =
      std::find(gauge.allowed.begin(), gauge.allowed.end(), answer.text) != gauge.allowed.end();
  if (!gauge.allowed.empty() && !listed)
    return fmt::format("reads '{}', which is none of the allowed texts", answer.text);
  if (!gauge.pattern.empty() && !std::regex_match(answer.text, std::regex(gauge.pattern)))
    return fmt::format("reads '{}', which does not match '{}'", answer.text, gauge.pattern);
  return {};
}

void take(Reading& reading, const CropGauge& gauge, const ReaderAnswer& answer) {
  reading.text = answer.text, reading.confidence = answer.confidence;
  switch (answer.state) {
    case ReaderAnswer::State::late:
      reading.state = Verdict::not_measured,
      reading.reason = fmt::format("the reader gave no answer within {:g} s", gauge.timeout_s);
      return;
    case ReaderAnswer::State::unreadable:
      reading.state = Verdict::not_measured,
      reading.reason = "the reader's answer cannot be read: " + answer.why;
      return;
    case ReaderAnswer::State::empty:
      reading.state = Verdict::not_found, reading.reason = "the reader saw no text";
      return;
    case ReaderAnswer::State::text:
      reading.reason = refusal(gauge, answer);
      reading.state = reading.reason.empty() ? Verdict::good : Verdict::bad;
  }
}

}  // namespace

ReaderAnswer parse_answer(const std::string& given) {
  const std::string answer = trimmed(given);
  if (answer.empty() || answer[0] != '{') {
    const size_t end = answer.find_first_of("\r\n");
    if (end != std::string::npos) return unreadable("it is more than one line");
    return answer_of(answer);
  }
  const auto json = nlohmann::json::parse(answer, nullptr, false);
  if (json.is_discarded() || !json.is_object()) return unreadable("it is no JSON object");
  if (!json.contains("text") || !json["text"].is_string()) return unreadable("its JSON has no text");
  ReaderAnswer result = answer_of(trimmed(json["text"].get<std::string>()));
  if (json.contains("confidence")) {
    if (!json["confidence"].is_number() ||
        !(json["confidence"].get<double>() >= 0 && json["confidence"].get<double>() <= 1))
      return unreadable("its confidence is no number from 0 to 1");
    result.confidence = json["confidence"].get<double>();
  }
  return result;
}

void read_crops(Report& report, const GaugeSet& gauges, Work* stop) {
  for (Reading& reading : report.readings) {
    const Gauge* gauge = gauges.gauge(reading.gauge);
    const auto* crop = gauge ? std::get_if<CropGauge>(&gauge->kind) : nullptr;
    if (!crop || !reading.crop || crop->program.empty()) continue;
    const auto timeout = std::chrono::milliseconds(static_cast<int64_t>(1000 * crop->timeout_s));
    take(reading, *crop,
         read_by_program(crop->program, reading.crop->view(), reading, report.picture, timeout, stop));
  }
  judge(report, gauges);
}

}  // namespace heron
