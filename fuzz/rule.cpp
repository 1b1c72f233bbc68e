#include "heron/gauge/rule.hpp"
#include "one_input.hpp"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  const std::string text(reinterpret_cast<const char*>(bytes), count);
  fuzz::refuse_or_read([&] {
    heron::Rule::parse(text).evaluate(
        {[] {
           return std::vector<std::string>{"a", "b"};
         },
         [](const std::string& name) { return name == "a" ? heron::Truth(true) : heron::Truth{}; },
         [](const std::string&) { return std::optional<double>(1); }});
  });
  return 0;
}
