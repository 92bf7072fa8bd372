//! care
