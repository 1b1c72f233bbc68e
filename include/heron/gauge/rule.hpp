#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "heron/report/reading.hpp"

namespace heron {

/// True, false, or nothing: not known, since something was not measured.
using Truth = std::optional<bool>;

/// What a rule asks for while it is evaluated.
struct RuleSource {
  std::function<std::vector<std::string>()> gauges;  ///< names that `all` and `any` range over
  std::function<Truth(const std::string&)> is_good;  ///< of a reading
  std::function<std::optional<double>(const std::string&)>
      value;  ///< of a reading, or of a count such as "parts"
};

/// A rule that combines readings into a verdict: docs/gauges.md has its grammar. Its logic has three values
/// (Kleene, Introduction to Metamathematics, 1952): what was not measured is neither true nor false, and
/// never counts as good.
class Rule {
 public:
  /// Throws Error{invalid_argument} with line and column for text that is no rule.
  static Rule parse(const std::string& text);
  ~Rule();
  Rule(Rule&&) noexcept;
  Rule& operator=(Rule&&) noexcept;

  /// Names that it mentions, counts such as "parts" included.
  const std::vector<std::string>& names() const;
  /// Cost: one visit a word. Dividing by 0 is not known.
  Truth evaluate(const RuleSource& source) const;

  struct Node;

 private:
  explicit Rule(std::unique_ptr<Node> root, std::vector<std::string> names);
  std::unique_ptr<Node> root_;
  std::vector<std::string> names_;
};

}  // namespace heron
