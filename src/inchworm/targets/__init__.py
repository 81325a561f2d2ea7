"""Places that things are put into: databases, workspaces, gateways; and where secrets are kept.

Small protocols with interchangeable adapters. An adapter speaks one product's language and turns
that product's failures into :class:`~inchworm.core.errors.TargetError`; it decides nothing.
"""
