#include <doctest/doctest.h>

#include <map>

#include "heron/gauge/rule.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

/// Gauges a to d: good, bad, not measured, good with the value 12; e has the value 0.
Truth evaluated(const std::string& text) {
  const std::map<std::string, Truth> good{{"a", true}, {"b", false}, {"c", std::nullopt}, {"slot d", true}};
  const std::map<std::string, double> values{{"slot d", 12}, {"e", 0}, {"parts", 3}};
  return Rule::parse(text).evaluate(
      {[] {
         return std::vector<std::string>{"a", "b", "c"};
       },
       [&](const std::string& name) { return good.count(name) ? good.at(name) : Truth{}; },
       [&](const std::string& name) {
         return values.count(name) ? std::optional(values.at(name)) : std::nullopt;
       }});
}

const Truth yes = true, no = false, open = std::nullopt;

}  // namespace

TEST_CASE("rules combine readings, and what was not measured is neither true nor false") {
  for (const auto& [text, truth] : std::vector<std::pair<const char*, Truth>>{
           {"a", yes},
           {"b", no},
           {"c", open},
           {"not b", yes},
           {"not c", open},
           {"a and c", open},
           {"b and c", no},
           {"a or c", yes},
           {"b or c", open},
           {"a and not b or c", yes},
           {"not (a and b)", yes},
           {"all", no},
           {"any", yes},
           {"all of (a, \"slot d\")", yes},
           {"any of (b, c)", open},
           {"at least 1", yes},
           {"at least 2", open},
           {"at least 3", no},
           {"at least 2 of (a, b, 'slot d')", yes},
           {"at least 2 of (a, b, c)", open},
           {"'slot d' > 11.5", yes},
           {"11.5 <= 'slot d' <= 12.0", yes},
           {"2 <= parts < 3", no},
           {"'slot d' / parts == 4", yes},
           {"-('slot d' - 2 * parts) < -5.9", yes},
           {"'slot d' / e > 1", open},
           {"missing > 1", open},
           {"a and (parts == 3 or c)", yes},
       }) {
    CAPTURE(std::string(text));
    CHECK(evaluated(text) == truth);
  }
}

TEST_CASE("a rule that cannot be read says where and why") {
  for (const auto& [text, words] : std::vector<std::pair<std::string, const char*>>{
           {"", "column 1: something is missing at the end"},
           {"a and", "column 6: something is missing at the end"},
           {"a b", "column 3: 'b' does not belong there"},
           {"a and\n  or b", "line 2, column 3: 'or' does not belong there"},
           {"3", "column 1: a number stands where"},
           {"(a and b) > 2", "column 2: something true or false stands where a number"},
           {"a and 3", "column 7: a number stands where"},
           {"at 2 of (a)", "column 4: 'at' must be followed by 'least'"},
           {"at least 3 of (a, b)", "at least 3 of 2 can never be"},
           {"at least 1.5 of (a, b)", "whole number"},
           {"all of (a", "')' must follow"},
           {"\"a", "column 1: a name without its second"},
           {"a & b", "column 3: '&' means nothing"},
           {"1e999 > a", "too large"},
           {std::string(500, '('), "nest at most"},
           {std::string(5000, 'a'), "at most 4000 characters"},
       }) {
    CAPTURE(text);
    const std::string error = error_of([&, &rule = text] { Rule::parse(rule); });
    CAPTURE(error);
    CHECK(contains(error, words));
  }
}
