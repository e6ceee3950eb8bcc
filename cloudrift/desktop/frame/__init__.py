"""The window around the stages: menus, heading, rail, ribbon, sheets, and the application."""
