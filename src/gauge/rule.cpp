#include "heron/gauge/rule.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "heron/base/error.hpp"

namespace heron {

/// What stands at a place of a rule: a truth, a number, or a name, which is either.
enum class RuleSort { truth, number, name };
enum class RuleOperation {
  number,
  name,
  both,
  either,
  negated,
  compared,
  sum,
  difference,
  product,
  quotient,
  minus,
  at_least,
  everything,
  anything
};

struct Rule::Node {
  RuleOperation operation = RuleOperation::number;
  RuleSort sort = RuleSort::number;
  size_t column = 0;
  double number = 0;      // also N of "at least N"
  std::string name = {};  // or the sign of a comparison
  std::vector<Node> parts = {};
};

namespace {

using Node = Rule::Node;
constexpr size_t longest = 4000;  // characters
constexpr int deepest = 60;       // parentheses and signs inside each other

struct Token {
  enum class Sort { end, number, word, quoted, sign } sort = Sort::end;
  std::string text = {};
  double number = 0;
  size_t at = 0;
};

class Parser {
 public:
  explicit Parser(const std::string& text) : text_(text) {
    if (text.size() > longest) fail_argument(fmt::format("a rule must have at most {} characters", longest));
    next();
  }

  Node whole() {
    Node root = disjunction();
    if (token_.sort != Token::Sort::end)
      fail(token_.at, fmt::format("'{}' does not belong there", token_.text));
    as_truth(root);
    return root;
  }
  std::vector<std::string> names() && { return std::move(names_); }

 private:
  [[noreturn]] void fail(size_t at, const std::string& why) const {
    const auto line = 1 + std::count(text_.begin(), text_.begin() + static_cast<ptrdiff_t>(at), '\n');
    const size_t start = at == 0 ? std::string::npos : text_.rfind('\n', at - 1);
    throw Error(ErrorCode::invalid_argument,
                fmt::format("rule, line {}, column {}: {}", line,
                            start == std::string::npos ? at + 1 : at - start, why));
  }

  void next() {
    while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_]))) ++at_;
    token_ = {.at = at_};
    if (at_ == text_.size()) return;
    const char c = text_[at_];
    const auto letter = [](char l) {
      return std::isalpha(static_cast<unsigned char>(l)) || l == '_' || (l & 0x80);
    };
    const auto digit = [](char l) { return std::isdigit(static_cast<unsigned char>(l)) != 0; };
    if (digit(c) || (c == '.' && at_ + 1 < text_.size() && digit(text_[at_ + 1]))) {
      const auto [end, code] =
          std::from_chars(text_.data() + at_, text_.data() + text_.size(), token_.number);
      if (code != std::errc{}) fail(at_, "a number that is too large");
      token_.sort = Token::Sort::number;
      take(static_cast<size_t>(end - text_.data()) - at_);
    } else if (letter(c)) {
      size_t end = at_;
      while (end < text_.size() && (letter(text_[end]) || digit(text_[end]))) ++end;
      token_.sort = Token::Sort::word;
      take(end - at_);
    } else if (c == '"' || c == '\'') {
      const size_t end = text_.find(c, at_ + 1);
      if (end == std::string::npos) fail(at_, "a name without its second quotation mark");
      token_.sort = Token::Sort::quoted, token_.text = text_.substr(at_ + 1, end - at_ - 1), at_ = end + 1;
    } else {
      token_.sort = Token::Sort::sign;
      const std::string two = text_.substr(at_, 2);
      const bool pair = two == "<=" || two == ">=" || two == "==" || two == "!=";
      if (!pair && std::string("()<>+-*/,").find(c) == std::string::npos)
        fail(at_,
             fmt::format(
                 "'{}' means nothing in a rule; it has names, numbers, and, or, not, all, any, at least, "
                 "parentheses, + - * / and < <= > >= == !=",
                 c));
      take(pair ? 2 : 1);
    }
  }
  void take(size_t count) { token_.text = text_.substr(at_, count), at_ += count; }

  bool is_word(const char* word) const { return token_.sort == Token::Sort::word && token_.text == word; }
  bool is_sign(const char* sign) const { return token_.sort == Token::Sort::sign && token_.text == sign; }
  bool accept_word(const char* word) { return is_word(word) ? (next(), true) : false; }
  bool accept_sign(const char* sign) { return is_sign(sign) ? (next(), true) : false; }
  void expect_sign(const char* sign) {
    if (!accept_sign(sign))
      fail(token_.at,
           fmt::format("'{}' must follow{}", sign,
                       token_.sort == Token::Sort::end ? "" : fmt::format(", not '{}'", token_.text)));
  }

  void as_truth(Node& node) const {
    if (node.sort == RuleSort::number)
      fail(node.column, "a number stands where something true or false is needed");
    node.sort = RuleSort::truth;
  }
  void as_number(Node& node) const {
    if (node.sort == RuleSort::truth)
      fail(node.column, "something true or false stands where a number is needed");
    node.sort = RuleSort::number;
  }

  struct Deeper {
    explicit Deeper(Parser& parser) : parser_(parser) {
      if (++parser_.depth_ > deepest)
        parser_.fail(parser_.token_.at, fmt::format("a rule may nest at most {} deep", deepest));
    }
    ~Deeper() { --parser_.depth_; }
    Deeper(const Deeper&) = delete;
    Deeper& operator=(const Deeper&) = delete;
    Parser& parser_;
  };

  Node joined(RuleOperation operation, const char* word, Node (Parser::*part)()) {
    Node first = (this->*part)();
    if (!is_word(word)) return first;
    Node node{.operation = operation, .sort = RuleSort::truth, .column = first.column};
    as_truth(first), node.parts.push_back(std::move(first));
    while (accept_word(word)) {
      node.parts.push_back((this->*part)());
      as_truth(node.parts.back());
    }
    return node;
  }
  Node disjunction() {
    const Deeper deeper(*this);
    return joined(RuleOperation::either, "or", &Parser::conjunction);
  }
  Node conjunction() { return joined(RuleOperation::both, "and", &Parser::negation); }
  Node negation() {
    const Deeper deeper(*this);
    const size_t at = token_.at;
    if (!accept_word("not")) return comparison();
    Node node{.operation = RuleOperation::negated, .sort = RuleSort::truth, .column = at};
    node.parts.push_back(negation());
    as_truth(node.parts[0]);
    return node;
  }
  bool compares() const {
    for (const char* sign : {"<", "<=", ">", ">=", "==", "!="})
      if (is_sign(sign)) return true;
    return false;
  }
  /// One comparison, or two that share their middle: 2 <= parts <= 5.
  Node comparison() {
    Node left = sum();
    if (!compares()) return left;
    Node all{.operation = RuleOperation::both, .sort = RuleSort::truth, .column = left.column};
    while (compares()) {
      Node one{.operation = RuleOperation::compared,
               .sort = RuleSort::truth,
               .column = token_.at,
               .name = token_.text};
      next();
      Node right = sum();
      as_number(left), as_number(right);
      one.parts = {left, right};
      all.parts.push_back(std::move(one)), left = std::move(right);
    }
    return all;
  }
  Node calculated(RuleOperation operation, Node left, Node right) const {
    as_number(left), as_number(right);
    Node node{.operation = operation, .column = left.column};
    node.parts = {std::move(left), std::move(right)};
    return node;
  }
  Node sum() {
    Node node = product();
    while (is_sign("+") || is_sign("-")) {
      const RuleOperation operation = is_sign("+") ? RuleOperation::sum : RuleOperation::difference;
      next();
      node = calculated(operation, std::move(node), product());
    }
    return node;
  }
  Node product() {
    Node node = factor();
    while (is_sign("*") || is_sign("/")) {
      const RuleOperation operation = is_sign("*") ? RuleOperation::product : RuleOperation::quotient;
      next();
      node = calculated(operation, std::move(node), factor());
    }
    return node;
  }
  Node factor() {
    const Deeper deeper(*this);
    const size_t at = token_.at;
    if (!accept_sign("-")) return primary();
    Node node{.operation = RuleOperation::minus, .column = at};
    node.parts.push_back(factor());
    as_number(node.parts[0]);
    return node;
  }
  Node named(const std::string& name, size_t at) {
    if (std::find(names_.begin(), names_.end(), name) == names_.end()) names_.push_back(name);
    return {.operation = RuleOperation::name, .sort = RuleSort::name, .column = at, .name = name};
  }
  /// "of (a, b, c)"; empty where it is left out, which means every gauge.
  std::vector<Node> members() {
    std::vector<Node> list;
    if (!accept_word("of")) return list;
    expect_sign("(");
    do {
      list.push_back(disjunction());
      as_truth(list.back());
    } while (accept_sign(","));
    expect_sign(")");
    return list;
  }
  Node primary() {
    const Token here = token_;
    if (here.sort == Token::Sort::number) {
      next();
      return {.operation = RuleOperation::number, .column = here.at, .number = here.number};
    }
    if (here.sort == Token::Sort::quoted) {
      next();
      return named(here.text, here.at);
    }
    if (accept_sign("(")) {
      Node node = disjunction();
      expect_sign(")");
      return node;
    }
    if (accept_word("all") || accept_word("any")) {
      Node node{.operation = here.text == "all" ? RuleOperation::everything : RuleOperation::anything,
                .sort = RuleSort::truth,
                .column = here.at};
      node.parts = members();
      return node;
    }
    if (accept_word("at")) {
      if (!accept_word("least")) fail(token_.at, "'at' must be followed by 'least': at least 2 of (a, b, c)");
      if (token_.sort != Token::Sort::number || token_.number != std::floor(token_.number))
        fail(token_.at, "'at least' must be followed by a whole number: at least 2 of (a, b, c)");
      Node node{.operation = RuleOperation::at_least,
                .sort = RuleSort::truth,
                .column = here.at,
                .number = token_.number};
      next();
      node.parts = members();
      if (!node.parts.empty() && node.number > static_cast<double>(node.parts.size()))
        fail(here.at, fmt::format("at least {:g} of {} can never be", node.number, node.parts.size()));
      return node;
    }
    if (here.sort == Token::Sort::word && here.text != "and" && here.text != "or" && here.text != "of") {
      next();
      return named(here.text, here.at);
    }
    fail(here.at, here.sort == Token::Sort::end ? "something is missing at the end"
                                                : fmt::format("'{}' does not belong there", here.text));
  }

  const std::string& text_;
  size_t at_ = 0;
  int depth_ = 0;
  Token token_;
  std::vector<std::string> names_;
};

std::optional<double> number_of(const Node& node, const RuleSource& source) {
  const auto part = [&](size_t i) { return number_of(node.parts[i], source); };
  if (node.operation == RuleOperation::number) return node.number;
  if (node.operation == RuleOperation::name) return source.value(node.name);
  const std::optional<double> a = part(0);
  if (!a) return a;
  if (node.operation == RuleOperation::minus) return -*a;
  const std::optional<double> b = part(1);
  if (!b) return b;
  double result = 0;
  switch (node.operation) {
    case RuleOperation::sum:
      result = *a + *b;
      break;
    case RuleOperation::difference:
      result = *a - *b;
      break;
    case RuleOperation::product:
      result = *a * *b;
      break;
    default:
      if (*b == 0) return std::nullopt;
      result = *a / *b;
  }
  return std::isfinite(result) ? std::optional(result) : std::nullopt;
}

Truth compared(const std::string& sign, std::optional<double> a, std::optional<double> b) {
  if (!a || !b) return std::nullopt;
  return sign == "<"    ? *a < *b
         : sign == "<=" ? *a <= *b
         : sign == ">"  ? *a > *b
         : sign == ">=" ? *a >= *b
         : sign == "==" ? *a == *b
                        : *a != *b;
}

/// True when at least `needed` are true; unknown while the unknown ones could still decide it.
Truth at_least(double needed, const std::vector<Truth>& all) {
  double yes = 0, open = 0;
  for (const Truth& t : all) yes += t == Truth(true), open += !t;
  if (yes >= needed) return true;
  return yes + open >= needed ? Truth{} : Truth(false);
}

Truth truth_of(const Node& node, const RuleSource& source) {
  if (node.operation == RuleOperation::name) return source.is_good(node.name);
  if (node.operation == RuleOperation::compared)
    return compared(node.name, number_of(node.parts[0], source), number_of(node.parts[1], source));
  std::vector<Truth> parts;
  for (const Node& part : node.parts) parts.push_back(truth_of(part, source));
  if (node.operation == RuleOperation::negated) return parts[0] ? Truth(!*parts[0]) : parts[0];
  const bool over_list = node.operation == RuleOperation::everything ||
                         node.operation == RuleOperation::anything ||
                         node.operation == RuleOperation::at_least;
  if (over_list && node.parts.empty())
    for (const std::string& name : source.gauges()) parts.push_back(source.is_good(name));
  if (node.operation == RuleOperation::at_least) return at_least(node.number, parts);
  if (node.operation == RuleOperation::either || node.operation == RuleOperation::anything)
    return at_least(1, parts);
  return at_least(static_cast<double>(parts.size()), parts);
}

}  // namespace

Rule Rule::parse(const std::string& text) {
  Parser parser(text);
  auto root = std::make_unique<Node>(parser.whole());
  return Rule(std::move(root), std::move(parser).names());
}

Rule::Rule(std::unique_ptr<Node> root, std::vector<std::string> names)
    : root_(std::move(root)), names_(std::move(names)) {}
Rule::~Rule() = default;
Rule::Rule(Rule&&) noexcept = default;
Rule& Rule::operator=(Rule&&) noexcept = default;

const std::vector<std::string>& Rule::names() const { return names_; }
Truth Rule::evaluate(const RuleSource& source) const { return truth_of(*root_, source); }

}  // namespace heron
