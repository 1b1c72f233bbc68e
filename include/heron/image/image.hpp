#pragma once
#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <memory>
#include <new>
#include <type_traits>

#include "heron/base/error.hpp"

namespace heron {

/// One pixel of a color picture. The order is red, green, blue everywhere.
struct Rgb {
  uint8_t r = 0, g = 0, b = 0;
  bool operator==(const Rgb&) const = default;
};

/// A window onto pixels that somebody else owns: cheap to copy, rows top to bottom.
/// The centre of pixel (0, 0) is the picture coordinate (0, 0).
template <class T>
class ImageView {
 public:
  ImageView() = default;
  ImageView(T* data, int width, int height, std::ptrdiff_t stride)
      : data_(data), width_(width), height_(height), stride_(stride) {}
  /// A view that may change pixels serves where one that may not is asked for.
  operator ImageView<const T>() const { return {data_, width_, height_, stride_}; }

  int width() const { return width_; }
  int height() const { return height_; }
  /// Elements from one row to the next.
  std::ptrdiff_t stride() const { return stride_; }
  bool empty() const { return width_ <= 0 || height_ <= 0; }
  T* row(int y) const { return data_ + y * stride_; }
  T& operator()(int x, int y) const { return data_[y * stride_ + x]; }
  bool holds(int x, int y) const { return x >= 0 && y >= 0 && x < width_ && y < height_; }

 private:
  T* data_ = nullptr;
  int width_ = 0, height_ = 0;
  std::ptrdiff_t stride_ = 0;
};

/// A picture that owns its pixels (uint8_t, Rgb, uint16_t, float). Every row starts at a multiple of
/// 64 bytes, so kernels may read whole vectors. New pixels are zero.
template <class T>
class Image {
 public:
  static constexpr std::size_t alignment = 64;

  Image() = default;
  Image(int width, int height) : Image(uninitialized(width, height)) {
    std::memset(static_cast<void*>(data_.get()), 0, byte_count());
  }
  explicit Image(ImageView<const T> source) : Image(uninitialized(source.width(), source.height())) {
    for (int y = 0; y < height_; ++y) std::copy_n(source.row(y), width_, row(y));
  }
  /// For what writes every pixel: pixels hold anything, only what lies behind the rows is zero.
  static Image uninitialized(int width, int height) {
    if (width < 0 || height < 0) fail_argument("an image cannot have a negative size");
    Image image;
    image.width_ = width;
    image.height_ = height;
    const std::size_t row_bytes =
        (static_cast<std::size_t>(width) * sizeof(T) + alignment - 1) / alignment * alignment;
    // Rgb has 3 bytes: the stride must hold whole pixels and whole alignment steps.
    const std::size_t unit = std::is_same_v<T, Rgb> ? alignment * sizeof(T) : alignment;
    image.stride_ = static_cast<std::ptrdiff_t>((row_bytes + unit - 1) / unit * unit / sizeof(T));
    image.data_.reset(static_cast<T*>(std::aligned_alloc(alignment, image.byte_count())));
    if (!image.data_) throw std::bad_alloc();
    for (int y = 0; y < height; ++y) std::fill(image.row(y) + width, image.row(y) + image.stride_, T{});
    std::memset(static_cast<void*>(image.row(height)), 0, alignment);
    return image;
  }
  Image(const Image& other) : Image(other.view()) {}
  Image(Image&& other) noexcept { swap(other); }
  Image& operator=(const Image& other) { return *this = Image(other); }
  Image& operator=(Image&& other) noexcept {
    Image taken(std::move(other));  // what is moved from is empty
    swap(taken);
    return *this;
  }

  int width() const { return width_; }
  int height() const { return height_; }
  std::ptrdiff_t stride() const { return stride_; }
  bool empty() const { return width_ == 0 || height_ == 0; }
  T* row(int y) { return data_.get() + y * stride_; }
  const T* row(int y) const { return data_.get() + y * stride_; }
  T& operator()(int x, int y) { return data_.get()[y * stride_ + x]; }
  const T& operator()(int x, int y) const { return data_.get()[y * stride_ + x]; }

  ImageView<T> view() { return {data_.get(), width_, height_, stride_}; }
  ImageView<const T> view() const { return {data_.get(), width_, height_, stride_}; }
  operator ImageView<T>() { return view(); }
  operator ImageView<const T>() const { return view(); }

 private:
  void swap(Image& other) noexcept {
    data_.swap(other.data_);
    std::swap(width_, other.width_), std::swap(height_, other.height_), std::swap(stride_, other.stride_);
  }
  struct Free {
    void operator()(T* p) const { std::free(p); }
  };
  /// With a vector's length behind the last row.
  std::size_t byte_count() const {
    return static_cast<std::size_t>(stride_) * sizeof(T) * static_cast<std::size_t>(height_) + alignment;
  }
  std::unique_ptr<T, Free> data_;
  int width_ = 0, height_ = 0;
  std::ptrdiff_t stride_ = 0;
};

}  // namespace heron
