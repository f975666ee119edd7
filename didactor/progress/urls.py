from django.urls import path

from didactor.progress import views

app_name = "progress"
urlpatterns = [
    path("students/<int:pk>/erase/", views.erase_student, name="erase_student"),
    path("takes/<int:pk>/erase/", views.erase_take, name="erase_take"),
]
