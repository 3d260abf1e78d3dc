//! The core as a whole: against the outside, against what nobody would write, and against prepared trouble.

mod causes;
mod fuzz;
mod outside;
mod quiet;
