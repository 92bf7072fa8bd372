//! packages
