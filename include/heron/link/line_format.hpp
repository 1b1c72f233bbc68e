#pragma once
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "heron/report/field.hpp"

namespace heron {

/// How a field is written where the receiver wants it otherwise: (value - zero) * scale.
struct FieldForm {
  std::string name;  ///< in the lines; one that is a field's own name changes how that is written
  std::string of;    ///< the field
  double zero = 0, scale = 1;
  std::optional<int> decimals = {};  ///< 0 to 9; otherwise 3, and 0 of whole numbers
  int width = 0;                     ///< filled up with zeros on the left; 0 to 32, 0: as long as it is
  std::string missing = {};          ///< written where there is no value
  std::map<std::string, std::string> words = {};  ///< written instead of a text: {"good", "1"}
};

/// Lines as a receiver wants them: text with fields in braces, as {x}; {{ and }} are braces.
struct LineFormat {
  std::string line;            ///< of a result; {parts} is where its parts stand
  std::string part = {};       ///< of each part
  std::string separator = {};  ///< between parts
  std::optional<std::string> none =
      {};                        ///< the whole line where no part is sent; otherwise `line` with no parts
  int max_parts = 1000;          ///< further ones are left out
  std::string line_end = "\n";   ///< or "\r\n"
  std::string ask = {};          ///< the line that asks for a picture; for mode ask
  std::string acknowledge = {};  ///< the line that a receiver answers with; empty: nothing is waited for
  /// The line that selects a set-up, with {setup} where its number stands, and what it is answered with when
  /// the set-up is loaded, or is not; empty: lines select none.
  std::string select = {}, selected = {}, not_selected = {};
  std::vector<FieldForm> forms = {};
};

/// The number in a line like `form`, which holds {setup} once; nothing for another line.
std::optional<int> setup_in(const std::string& line, const std::string& form);
/// The line like `form` with that number.
std::string with_setup(const std::string& form, int setup);

/// A value as it is written. A number that is not finite is missing. Of texts, characters outside A-Z a-z 0-9
/// _ . - become _, so that no name can break a line.
std::string written(const FieldValue& value, const FieldForm& form, bool whole);

/// Writes results in a format.
class LineWriter {
 public:
  /// Throws Error{invalid_argument} for a brace that is not closed, a field that there is not (with those
  /// that there are), parts that are nowhere to stand, forms of one name, numbers out of range.
  explicit LineWriter(LineFormat format);

  /// Without the end of the last line.
  std::string write(const SentReport& sent) const;
  const LineFormat& format() const { return format_; }
  /// The fields that the lines hold.
  std::vector<std::string> fields() const;

 private:
  struct Piece {
    std::string text = {};  ///< as it stands, where there is no field
    FieldForm form = {};
    bool whole = false, is_text = false, parts = false;
  };
  void require_used(const FieldForm& form) const;
  std::vector<Piece> pieces_of(const std::string& text, const char* key, bool of_part) const;
  template <class Value>
  static std::string joined(const std::vector<Piece>& pieces, const Value& value);

  LineFormat format_;
  std::vector<Piece> line_, part_, none_;
};

}  // namespace heron
