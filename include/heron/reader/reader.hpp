#pragma once
#include <chrono>
#include <optional>
#include <string>

#include "heron/gauge/gauge.hpp"
#include "heron/image/image.hpp"
#include "heron/report/report.hpp"

namespace heron {

class Work;

/// What an outside reader made of a picture.
struct ReaderAnswer {
  enum class State {
    text,
    empty,       ///< it answered that there is no text
    late,        ///< it did not answer in time, and was ended
    unreadable,  ///< it failed, or what it answered is no text
  } state = State::unreadable;
  std::string text = {};
  std::optional<double> confidence = {};
  std::string why = {};  ///< of `unreadable`
};

/// An answer as a program writes it: one line of text, or a JSON object {"text": "A17", "confidence": 0.93}.
ReaderAnswer parse_answer(const std::string& answer);

/// Runs a command line (by /bin/sh) with the picture as PNG on its standard input, and reads its standard
/// output. What it is asked about stands in its environment: HERON_PICTURE, HERON_PART (from 1; empty for a
/// fixed frame), HERON_GAUGE. The program and all that it started are ended when the time is over, when it
/// answers more than 64 KB, or after a stop. Throws Error{not_determined} when no process can be started.
ReaderAnswer read_by_program(const std::string& command, const ImageView<const uint8_t>& picture,
                             const Reading& about, const std::string& picture_name,
                             std::chrono::milliseconds timeout, Work* stop = nullptr);

/// Has each crop of a report read that names a program, and judges the report again: a text that its gauge
/// accepts is good, another one bad; no text is not found; an answer that is late or unreadable is not
/// measured.
void read_crops(Report& report, const GaugeSet& gauges, Work* stop = nullptr);

}  // namespace heron
