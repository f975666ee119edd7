from django.apps import AppConfig


class DemoConfig(AppConfig):
    name = "didactor.demo"
    label = "demo"
