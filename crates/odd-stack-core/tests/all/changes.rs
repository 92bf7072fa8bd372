//! changes
