from django.apps import AppConfig


class AssignmentsConfig(AppConfig):
    name = "didactor.assignments"
    label = "assignments"
