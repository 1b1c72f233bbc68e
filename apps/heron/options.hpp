#pragma once
#include <CLI/App.hpp>
#include <string>
#include <vector>

#include "heron/base/range.hpp"
#include "heron/geometry/board_shape.hpp"
#include "heron/image/region.hpp"

namespace heron::tool {

/// Of every number in a call, either side of 0: pixels, millimetres or degrees beyond are a slip.
inline constexpr double largest_number = 1e9;

/// Each throws Error{invalid_argument} that names the option, what was given and what is allowed.
std::vector<double> parse_numbers(const std::string& text, size_t count, const char* option,
                                  const char* form);
Box parse_box(const std::string& text, const char* option);
/// `X,Y,WIDTH,HEIGHT`, or `turned:`, `ellipse:`, `ring:`, `polygon:` with their numbers.
Region parse_region(const std::string& text, const char* option);
Point2 parse_point(const std::string& text, const char* option);
/// Millimetres of `12.5mm`, `0.75in`, `3cm`, `1.2m`; a bare number is millimetres.
double parse_length(const std::string& text, const char* option);
Range<double> parse_range(const std::string& text, const char* option);
/// `-30..30`, `30` (both sides) or `any`.
Range<Angle> parse_angle_range(const std::string& text);
BoardKind parse_board_kind(const std::string& text);

/// Throws Error{invalid_argument} when an option was given that this way of calling a command, `way`, does
/// not look at: what is ignored without a word was meant for something. `used` parts their names with blanks;
/// "pictures" stands for what has no dashes.
void require_used(const CLI::App& command, const std::string& way, const std::string& used);

/// Refuses a negative value for an unsigned option, which would otherwise wrap around to a huge number.
std::string not_negative(const std::string& text);
/// Throws Error{invalid_argument} when a file that a command would write is one that it reads, or that
/// another of its outputs would write.
void require_not_read(const std::vector<std::string>& written, const std::vector<std::string>& read);

/// FILE for one picture; FILE-01, FILE-02 ... before the ending for several.
std::string numbered(const std::string& file, size_t index, size_t count);

/// Now, as ISO 8601 in UTC.
std::string now_text();

}  // namespace heron::tool
