//! What more than one program for measuring needs: the [`ceilings`].

pub mod ceilings;
