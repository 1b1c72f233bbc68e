#pragma once

/// True under sanitizers, which look for wrong memory and take five times as long: statistics over many runs
/// are drawn from a tenth of them there, and judged in the plain build alone.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
inline constexpr bool sanitized = true;
#else
inline constexpr bool sanitized = false;
#endif
/// The thread sanitizer, which takes twenty times as long.
#if defined(__SANITIZE_THREAD__)
inline constexpr bool thread_sanitized = true;
#else
inline constexpr bool thread_sanitized = false;
#endif
