#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "heron/report/field.hpp"

namespace heron {

/// How a number stands in registers of 16 bits.
enum class RegisterType { int16, uint16, int32, uint32, float32 };
inline constexpr const char* register_type_words[] = {"int16", "uint16", "int32", "uint32", "float32"};
/// Which half of a number of two registers stands first.
enum class WordOrder { high_first, low_first };

/// One field in the registers: (value - zero) * scale, rounded to the nearest whole number unless it is a
/// float.
struct MappedField {
  int at = 0;           ///< its first register
  std::string of = {};  ///< a field of the whole result, or of part `part`
  int part = 0;         ///< 0: of the whole result; of parts: the first that stands here
  int every = 0;        ///< of the parts after it: registers from one to the next; 0: one part alone
  RegisterType type = RegisterType::int16;
  WordOrder order = WordOrder::high_first;
  double zero = 0, scale = 1;
  std::vector<std::pair<std::string, double>> words = {};  ///< a text's number: {"leaf", 1}
};

/// Where a station that connects to a controller finds its registers among the controller's holding
/// registers.
struct ControllerRegisters {
  int station_at = 0;  ///< the first of those that the station writes: handshake and fields count from here
  int controller_at = 0;  ///< the first of the three that the controller writes
  int valid_at = 0;       ///< counted as the fields are: from here on a bit for each field, the lowest first,
                          ///< in the order of `registers_of`
};

/// What stands where.
struct RegisterMap {
  std::vector<MappedField> fields;
  int max_parts = 8;                                   ///< further ones are left out
  std::optional<ControllerRegisters> controller = {};  ///< for a station that connects

  /// Throws Error{invalid_argument} for a field that there is not, a register beyond 65535 or within the
  /// first `first_free_register`, two fields that share one, a text without numbers.
  void require_valid() const;
  int size() const;         ///< registers from the first of the handshake to the last that is mapped
  int valid_words() const;  ///< registers that hold a bit for each field
};
/// The first registers are those of the handshake.
inline constexpr int first_free_register = 10;

/// A field of a result as it stands in its registers.
struct RegisterValue {
  int at = 0;
  std::vector<uint16_t> words;
  bool valid = false;        ///< false: there is no value, or it does not fit; the registers hold 0 then
  std::string name;          ///< "x of part 2", for people
  std::string refused = {};  ///< why a value does not fit
};
/// All fields of a result, in the map's order, part by part: as many whatever was found.
std::vector<RegisterValue> registers_of(const RegisterMap& map, const SentReport& sent);

/// A bit for each of them, the lowest of the first word first.
std::vector<uint16_t> valid_bits(const std::vector<RegisterValue>& values);

/// Registers of a type.
inline int register_count(RegisterType type) {
  return type == RegisterType::int16 || type == RegisterType::uint16 ? 1 : 2;
}

}  // namespace heron
