//! Shared instances for the benches; never used by the product.
