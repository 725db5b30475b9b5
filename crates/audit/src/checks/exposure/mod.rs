//! Checks of the area `exposure`.

pub(super) mod outside_unfiltered;
